package ask

import (
	"tarnwold/core/account"
	"tarnwold/core/rule"
)

// HomeOf tells whose home an item is: the user who owns it and is named in its own entries,
// which name no other single user.
func (k *Asker) HomeOf(d *rule.Descriptor) (owner account.ID, ok bool) {
	user := func(id account.ID) bool {
		a, known := k.T.Account(id)
		return known && a.Kind == account.User
	}
	if !user(d.Owner) {
		return account.ID{}, false
	}
	named := false
	for _, e := range d.Rules.Entries {
		switch {
		case !e.Own():
		case e.Who == d.Owner:
			named = true
		case user(e.Who):
			return account.ID{}, false
		}
	}
	return d.Owner, named
}
