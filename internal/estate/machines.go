package estate

import (
	"encoding/json"
	"fmt"
	"slices"
	"strings"

	"tarnwold/core/account"
	"tarnwold/core/rule"
	"tarnwold/internal/store"
)

// A machine's own account is an account like others, called by its name there with the
// machine's behind: daemon@workbench. Rules name it by its number, and who a number is
// hangs on the machine.

// ownSIDs are between which texts the identifiers of realms' own accounts are, those of
// machines without an identifier of their own.
var ownSIDs = func() [2]string {
	prefix := strings.TrimSuffix(account.Nowhere.String(), "0")
	return [2]string{prefix, prefix + ":"} // a colon is behind all digits
}()

// Machines tells which machines have accounts of their own, by realm.
func (t *Tx) Machines() map[account.ID]bool {
	if t.machines != nil {
		return t.machines
	}
	t.machines = map[account.ID]bool{}
	for at := ownSIDs[0]; ; {
		var sid string
		if !t.One("SELECT sid FROM accounts WHERE sid>=? AND sid<? ORDER BY sid LIMIT 1", []any{at, ownSIDs[1]}, &sid) {
			return t.machines
		}
		id, err := account.ParseID(sid)
		if err != nil {
			return t.machines
		}
		of, _, own := id.Machine() // its accounts come before its built-in groups
		if own {
			t.machines[of] = true
		} else if of, _, own = id.Realm(); !own {
			return t.machines
		}
		at = of.String() + "." // behind all of that machine's, before the next
	}
}

// machineOf tells whose own accounts are known on a server, when those of some machines
// come; zero where no machine has any.
func (t *Tx) machineOf(s Server, coming []account.ID) account.ID {
	have := t.Machines()
	if len(have)+len(coming) == 0 {
		return account.ID{}
	}
	own := ServerRealm(s)
	for _, realm := range coming {
		if realm == own {
			return own
		}
	}
	if have[own] {
		return own
	}
	return account.Nowhere
}

// OwnOf gives each machine's account of a uid or gid.
func (t *Tx) OwnOf(id account.ID) (out []account.Account) {
	n, user, ok := id.POSIX()
	if !ok || len(t.Machines()) == 0 {
		return nil
	}
	kind := account.Group
	if user {
		kind = account.User
	}
	for _, a := range t.accountsWhere("kind=? AND posix=? AND sid>=? AND sid<? ORDER BY id", kind, n, ownSIDs[0], ownSIDs[1]) {
		if _, named, own := a.ID.Machine(); own && named == id {
			out = append(out, a.Account)
		}
	}
	return out
}

// OwnNamed gives each machine's account that is called a name there; kind 0 takes either.
func (t *Tx) OwnNamed(name string, kind account.Kind) (out []account.Account) {
	if len(t.Machines()) == 0 || name == "" {
		return nil
	}
	key := store.Key(name)
	for _, a := range t.accountsWhere("key>? AND key<? AND (?=0 OR kind=?) ORDER BY kind, key", key+"@", key+"A", kind, kind) { // A is behind @
		if _, _, own := a.ID.Machine(); own && store.Key(Called(a.Account)) == key {
			out = append(out, a.Account)
		}
	}
	return out
}

// severalOwn refuses a bare name that several accounts of machines have.
func (t *Tx) severalOwn(name string, own []account.Account) error {
	var say []string
	for _, a := range own[:min(len(own), 4)] {
		say = append(say, t.Name(a.ID))
	}
	more := ""
	if n := len(own) - len(say); n > 0 {
		more = fmt.Sprintf(", or one of %d more", n)
	}
	return refuse("say which: "+strings.Join(say, " or ")+more, "%d accounts of machines are called %q", len(own), name)
}

// Called is what an account is called where it is kept: a machine's own without the
// machine's name.
func Called(a account.Account) string {
	if _, _, own := a.ID.Machine(); own {
		if i := strings.LastIndexByte(a.Name, '@'); i > 0 {
			return a.Name[:i]
		}
	}
	return a.Name
}

// MachineOf gives the server that an account is the own one of.
func (t *Tx) MachineOf(id account.ID) (s Server, ok bool) {
	realm, _, own := id.Machine()
	if !own {
		return s, false
	}
	for _, s := range t.Servers() {
		if ServerRealm(s) == realm {
			return s, true
		}
	}
	return s, false
}

// RealmLink says that a machine takes its accounts from a directory.
type RealmLink struct {
	Server string   `json:"server"`
	With   string   `json:"with"` // the directory
	By     LinkedBy `json:"by"`
}

// LinkedBy is what makes an account of a machine one of a directory.
type LinkedBy string

const (
	ByBoth   LinkedBy = "number-and-name"
	ByNumber LinkedBy = "number"
)

// RealmLink gives where a server takes its accounts from; nil: nobody said.
func (t *Tx) RealmLink(s Server) *RealmLink {
	body := t.Record(RealmRecord, ServerRealm(s).String())
	if body == "" {
		return nil
	}
	l := &RealmLink{}
	if err := json.Unmarshal([]byte(body), l); err != nil {
		t.Fail(fmt.Errorf("%w: where server %s takes its accounts from", store.ErrDamaged, s.Name))
	}
	return l
}

// IsName tells whether somebody is called a name who is no machine's own.
func (t *Tx) IsName(name string) bool {
	return t.Int("SELECT count(*) FROM accounts WHERE key=?", store.Key(name)) > 0
}

// KindOf takes user: or group: off a word.
func (t *Tx) KindOf(word string) (name string, kind account.Kind) {
	for _, k := range []account.Kind{account.User, account.Group} {
		if rest, ok := strings.CutPrefix(word, k.String()+":"); ok {
			return rest, k
		}
	}
	return word, 0
}

// NumberElsewhere finds a place of another server whose rules name the number of a
// machine's own account.
func (t *Tx) NumberElsewhere(id account.ID) (where string, ok bool) {
	realm, named, own := id.Machine()
	if !own {
		return "", false
	}
	for _, s := range t.Servers() {
		if ServerRealm(s) == realm {
			continue
		}
		for _, sh := range t.Shares(s) {
			d := sh.Descriptor
			if d.Owner == named || d.Group == named || slices.ContainsFunc(d.Rules.Entries, func(e rule.Entry) bool { return e.Who == named }) {
				return sh.Address(), true
			}
		}
	}
	t.Naming([]account.ID{named}, func(of int64, _ rule.Any) {
		for _, list := range t.StrandsHaving([]int64{of}) {
			for _, s := range list {
				for _, x := range t.Targets(s.ID) {
					if ok || t.Err() != nil {
						return
					}
					if at := t.Place(x.Item); ServerRealm(at.Server) != realm {
						where, ok = at.String(), true
					}
				}
			}
		}
	})
	return where, ok
}

// NumbersOf has numbers named by a server's own accounts from now on, until what it gives is
// called: for who tells of that server alone.
func (t *Tx) NumbersOf(s Server) (back func()) {
	was := t.here
	set := func(realm account.ID) {
		if t.here != realm {
			t.here = realm
			clear(t.names)
		}
	}
	if realm := ServerRealm(s); t.Machines()[realm] {
		set(realm)
	} else if len(t.Machines()) > 0 {
		set(account.Nowhere)
	}
	return func() { set(was) }
}

// numberName names a uid or gid that a machine's own account has: as the machine that is
// told of calls it, or where that isn't one, as all machines do.
func (t *Tx) numberName(id account.ID) (string, bool) {
	if len(t.Machines()) == 0 {
		return "", false
	}
	if !t.here.IsZero() {
		own, _ := id.On(t.here)
		if a := t.account(own); a != nil {
			return Called(a.Account), true
		}
		return "", false
	}
	all := t.OwnOf(id)
	if len(all) == 0 || len(all) < len(t.Machines()) {
		return "", false
	}
	if n, _, _ := id.POSIX(); n != 0 && len(all) < len(t.Servers()) { // where nobody told who it is, it may be another
		return "", false
	}
	for _, a := range all[1:] {
		if Called(a) != Called(all[0]) {
			return "", false
		}
	}
	return Called(all[0]), true
}
