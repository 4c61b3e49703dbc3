package account

// A machine's own accounts, those of its passwd(5) and group(5), have numbers that mean
// somebody else on the next machine. Rules name them by the number, S-1-22-1-uid and
// S-1-22-2-gid; who that is on a machine is told by an account whose identifier stands in
// no rules: that of the machine's realm, with the number's three parts behind it.

const posixAuthority = 22

// On gives the account that a uid or gid is on a machine; ok is false where id is neither
// or realm is no machine's.
func (id ID) On(realm ID) (own ID, ok bool) {
	n, user, ok := id.POSIX()
	if !ok || !realm.machine() {
		return ID{}, false
	}
	kind := uint32(2)
	if user {
		kind = 1
	}
	return realm.Child(posixAuthority).Child(kind).Child(n), true
}

func (id ID) machine() bool {
	if id.IsZero() {
		return false
	}
	s := id.h.Value()
	return s.auth == machines && s.n == 1
}

// Machine tells of a machine's own account which machine's it is, and by which identifier
// rules name it; ok is false of any other.
func (id ID) Machine() (realm, named ID, ok bool) {
	if id.IsZero() {
		return ID{}, ID{}, false
	}
	s := id.h.Value()
	if s.auth != machines || s.n != 4 || s.sub[1] != posixAuthority || s.sub[2] != 1 && s.sub[2] != 2 {
		return ID{}, ID{}, false
	}
	return MachineRealm(s.sub[0]), NewID(posixAuthority, s.sub[2], s.sub[3]), true
}

// Inner tells whether an identifier is a realm's own for an account that rules name by
// another: its built-in group, or a machine's account. In rules it means nobody.
func (id ID) Inner() bool {
	_, _, group := id.Realm()
	_, _, own := id.Machine()
	return group || own
}
