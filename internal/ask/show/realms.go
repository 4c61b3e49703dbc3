package show

import (
	"tarnwold/core/account"
	"tarnwold/internal/ask"
	"tarnwold/internal/estate"
)

// Realm is where accounts belong: a machine's own, a domain's, or the estate itself.
type Realm struct {
	Name    string `json:"realm"`
	Kind    string `json:"kind"` // machine, domain or estate
	Users   int64  `json:"users"`
	Groups  int64  `json:"groups"`
	Builtin int64  `json:"built-in-groups"`
	// From is the directory that a machine takes other accounts from, By what makes one
	// there one of the directory's.
	From string `json:"accounts-from,omitempty"`
	By   string `json:"by,omitempty"`
}

// Realms lists where accounts belong: machines by name, then domains, then the estate.
func Realms(k *ask.Asker) ([]Realm, error) {
	t := k.T
	by := map[account.ID]*Realm{}
	var out []Realm
	servers, domains := t.Servers(), t.Domains()
	out = make([]Realm, 0, len(servers)+len(domains)+1)
	for _, s := range servers {
		r := Realm{Name: s.Name, Kind: "machine"}
		if l := t.RealmLink(s); l != nil {
			r.From, r.By = l.With, string(l.By)
		}
		out = append(out, r)
		by[estate.ServerRealm(s)] = &out[len(out)-1]
	}
	for _, d := range domains {
		out = append(out, Realm{Name: d.Name, Kind: "domain"})
		by[d.ID] = &out[len(out)-1]
	}
	out = append(out, Realm{Name: "the estate", Kind: "estate"})
	rest := &out[len(out)-1]
	t.EachAccount(func(_ int64, a account.Account) {
		if account.Open(a.ID) {
			return
		}
		realm, _, builtin := a.ID.Realm()
		if !builtin {
			var own bool
			if realm, _, own = a.ID.Machine(); !own {
				realm, _, _ = a.ID.Domain()
			}
		}
		r := by[realm]
		if r == nil {
			r = rest
		}
		switch {
		case builtin:
			r.Builtin++
		case a.Kind == account.User:
			r.Users++
		default:
			r.Groups++
		}
	})
	return out, t.Err()
}
