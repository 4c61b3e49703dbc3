package verdict

import (
	"fmt"
	"sort"
	"strings"

	"tarnwold/core/account"
	"tarnwold/core/right"
)

// Traits are what a kind of server does beyond its entries in order. They are
// data kept with the server; nothing else tells servers apart.
type Traits struct {
	Name string `json:"name"` // of the set they began as
	account.Traits
	// NamingShowsAttributes: whoever can name an item is granted
	// read-attributes on it, as far as the share allows.
	NamingShowsAttributes bool `json:"naming-shows-attributes"`
	// AsksFoldersAbove: every folder above must grant execute.
	AsksFoldersAbove bool `json:"asks-folders-above"`
	// ReadOnlyTakes are the rights a share switched to read-only takes away.
	ReadOnlyTakes right.Set `json:"read-only-takes"`
	// AdministratorsPass: the server's administrators are granted everything
	// by the file's rules; a share's rules still limit them.
	AdministratorsPass bool `json:"administrators-pass"`
	// MovedKeeps: an item moved within the server keeps its inherited
	// entries until something renews them.
	MovedKeeps bool `json:"moved-keeps"`
}

var sets = map[string]Traits{
	// smb is what an SMB server on a POSIX system was measured to do.
	"smb": {
		Name:                  "smb",
		Traits:                account.Traits{POSIXIDs: true, DomainUsers: true},
		NamingShowsAttributes: true,
		ReadOnlyTakes: right.WriteData | right.AppendData | right.WriteNamedAttrs |
			right.WriteAttributes | right.DeleteChild,
		AdministratorsPass: true,
		MovedKeeps:         true,
	},
	// plain is the standard's decision and nothing beside it.
	"plain": {
		Name: "plain",
		ReadOnlyTakes: right.WriteData | right.AppendData | right.WriteNamedAttrs | right.WriteAttributes |
			right.DeleteChild | right.Delete | right.WriteACL | right.WriteOwner,
		MovedKeeps: true,
	},
}

// NamedTraits gives the set of traits of a name.
func NamedTraits(name string) (Traits, error) {
	if t, ok := sets[name]; ok {
		return t, nil
	}
	return Traits{}, fmt.Errorf("no set of traits is called %q; there are %s", name, strings.Join(TraitNames(), ", "))
}

// TraitNames lists the named sets.
func TraitNames() []string {
	var names []string
	for n := range sets {
		names = append(names, n)
	}
	sort.Strings(names)
	return names
}
