package estate

import (
	"slices"
	"strings"

	"tarnwold/core/account"
	"tarnwold/internal/store"
)

// A realm's own built-in group is an account like others, and called by what it is
// everywhere with its realm behind: BUILTIN\Administrators@stagedoor. A server that
// answers for a domain, as its controllers do, has the domain's; any other has its own.

// builtinKeys are what the keys of their names begin with, and what is behind those.
var builtinKeys = [2]string{store.Key(account.BuiltinPrefix), store.Key(account.BuiltinPrefix[:len(account.BuiltinPrefix)-1]) + "]"}

// Builtins lists the built-in groups that realms have here, by name.
func (t *Tx) Builtins() []account.Account {
	if t.builtins == nil {
		t.builtins = []account.Account{}
		for _, a := range t.accountsWhere("key>=? AND key<? ORDER BY key", builtinKeys[0], builtinKeys[1]) {
			if _, _, ok := a.ID.Realm(); ok {
				t.builtins = append(t.builtins, a.Account)
			}
		}
	}
	return t.builtins
}

// ServerRealm is the realm of a server's own accounts.
func ServerRealm(s Server) account.ID { return account.MachineRealm(uint32(s.ID)) }

// RealmOf tells whose built-in groups count on a server, when those of some realms come
// that had none here; zero where no realm has any.
func (t *Tx) RealmOf(s Server, coming ...account.ID) account.ID {
	have := slices.Clip(coming)
	for _, g := range t.Builtins() {
		realm, _, _ := g.ID.Realm()
		have = append(have, realm)
	}
	if len(have) == 0 {
		return account.ID{}
	}
	own, answered := ServerRealm(s), t.Answered(s)
	var domain account.ID
	domains := 0
	if slices.Contains(have, own) {
		return own
	}
	for i, realm := range have {
		switch {
		case realm == answered:
			return realm
		case slices.Contains(have[:i], realm):
		default:
			if _, _, ok := realm.Child(0).Domain(); ok { // and no machine's
				domain = realm
				domains++
			}
		}
	}
	if answered.IsZero() && domains == 1 && s.Traits.DomainUsers && s.Traits.MailGroupsLeftOut { // told by files alone
		return domain
	}
	return account.Nowhere
}

// realmed gives traits the realm of a server.
func (t *Tx) realmed(list []Server) []Server {
	for i := range list {
		list[i] = t.Realmed(list[i], nil)
	}
	return list
}

// Realmed gives a server's traits whose groups and whose own accounts count there, when
// some accounts come too.
func (t *Tx) Realmed(s Server, coming []account.ID) Server {
	var groups, machines []account.ID
	for _, id := range coming {
		if realm, _, ok := id.Realm(); ok {
			groups = append(groups, realm)
		}
		if realm, _, ok := id.Machine(); ok {
			machines = append(machines, realm)
		}
	}
	if s.Traits.OwnGroupsOnce {
		s.Traits.Own = t.Answered(s)
	}
	s.Traits.Realm, s.Traits.Machine = t.RealmOf(s, groups...), t.machineOf(s, machines)
	return s
}

// RealmName is what a realm is called: its server's name, or its domain's.
func (t *Tx) RealmName(realm account.ID) string {
	for _, d := range t.Domains() {
		if d.ID == realm {
			return d.Name
		}
	}
	for _, s := range t.Servers() {
		if ServerRealm(s) == realm {
			return s.Name
		}
	}
	return realm.String()
}

// BuiltinGroup makes the account of a realm's built-in group, as it is when it comes.
func (t *Tx) BuiltinGroup(named, realm account.ID, called string) (a account.Account, ok bool) {
	group, ok := named.In(realm)
	name, known := account.SpecialName(named)
	return account.Account{ID: group, Kind: account.Group, Name: name + "@" + called, POSIX: account.NoPOSIX}, ok && known
}

// SpecialMember is the account that stands for a special one where a group lists it.
func SpecialMember(id account.ID) (a account.Account, ok bool) {
	name, known := account.SpecialName(id)
	return account.Account{ID: id, Kind: account.Group, Name: name, POSIX: account.NoPOSIX}, known && account.Open(id)
}

// Builtin finds the built-in group that was typed with its realm: BUILTIN\Users@stagedoor
// or stagedoor\Users. It may be one that isn't in the estate yet.
func (t *Tx) Builtin(word string) (a account.Account, ok bool) {
	name, called, found := strings.Cut(word, "@")
	if realm, rest, back := strings.Cut(word, `\`); !found && back {
		name, called = account.BuiltinPrefix+rest, realm
	}
	named, special := account.ParseSpecial(name)
	if _, builtin := named.Builtin(); !special || !builtin || called == "" {
		return a, false
	}
	want := store.Key(called)
	for _, g := range t.Builtins() {
		if g.ID.Named() == named && strings.HasSuffix(store.Key(g.Name), "@"+want) {
			return g, true
		}
	}
	for _, s := range t.Servers() {
		if store.Key(s.Name) == want {
			realm := ServerRealm(s)
			if s.Traits.Realm != account.Nowhere && !s.Traits.Realm.IsZero() {
				realm = s.Traits.Realm
			}
			return t.BuiltinGroup(named, realm, t.RealmName(realm))
		}
	}
	for _, d := range t.Domains() {
		if store.Key(d.Name) == want || store.Key(d.Realm) == want {
			return t.BuiltinGroup(named, d.ID, d.Name)
		}
	}
	return a, false
}

// builtinNamed finds the built-in group that a name without a realm means: that of the
// one realm that has it.
func (t *Tx) builtinNamed(word string) []account.Account {
	id, _ := account.ParseSpecial(word)
	return t.realmsOf(id)
}

// realmsOf gives each realm's group of one built-in identifier.
func (t *Tx) realmsOf(id account.ID) (found []account.Account) {
	if _, builtin := id.Builtin(); !builtin {
		return nil
	}
	for _, g := range t.Builtins() {
		if g.ID.Named() == id {
			found = append(found, g)
		}
	}
	return found
}

// specialIDs are the special accounts that groups may list.
var specialIDs = func() (out []account.ID) {
	for _, name := range account.SpecialNames() {
		if id, ok := account.ParseSpecial(name); ok && account.Open(id) {
			out = append(out, id)
		}
	}
	return out
}()
