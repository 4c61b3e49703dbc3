package account

import "strings"

// The special accounts, by the names of RFC 8881 §6.2.1.5 and the identifiers
// of [MS-DTYP] §2.4.2.4.
var (
	Everyone      = MustID("S-1-1-0")
	Authenticated = MustID("S-1-5-11")
	Network       = MustID("S-1-5-2")
	Interactive   = MustID("S-1-5-4")
	Anonymous     = MustID("S-1-5-7")
	OwnerRights   = MustID("S-1-3-4") // owner@: whoever owns the item now
	Creator       = MustID("S-1-3-0") // creator@: replaced when inherited
	CreatorGroup  = MustID("S-1-3-1") // creator-group@: replaced when inherited
	System        = MustID("S-1-5-18")
	NTLM          = MustID("S-1-5-64-10") // ntlm@: whoever signed on by NTLM
	Schannel      = MustID("S-1-5-64-14") // schannel@: by a certificate
	Digest        = MustID("S-1-5-64-21") // digest@: by a digest
)

type special struct {
	id   ID
	name string
	open bool // stands for people nobody listed
}

var specials = [...]special{
	{Everyone, "everyone@", true},
	{Authenticated, "authenticated@", true},
	{Network, "network@", true},
	{Interactive, "interactive@", true},
	{Anonymous, "anonymous@", true},
	{OwnerRights, "owner@", false},
	{Creator, "creator@", false},
	{CreatorGroup, "creator-group@", false},
	{System, "system@", false},
	{MustID("S-1-5-1"), "dialup@", true},
	{MustID("S-1-5-3"), "batch@", true},
	{MustID("S-1-5-6"), "service@", true},
	{MustID("S-1-5-19"), "local-service@", false},
	{MustID("S-1-5-20"), "network-service@", false},
	{NTLM, "ntlm@", true},
	{Schannel, "schannel@", true},
	{Digest, "digest@", true},
}

// SpecialName gives the name of a special account; ok is false for any other.
func SpecialName(id ID) (name string, ok bool) {
	for i := range specials {
		if specials[i].id == id {
			return specials[i].name, true
		}
	}
	return builtinName(id)
}

// ParseSpecial finds a special account by name.
func ParseSpecial(name string) (ID, bool) {
	for i := range specials {
		if strings.EqualFold(specials[i].name, name) {
			return specials[i].id, true
		}
	}
	return parseBuiltin(name)
}

// SpecialNames lists the names of all special accounts.
func SpecialNames() []string {
	names := make([]string, len(specials))
	for i := range specials {
		names[i] = specials[i].name
	}
	return names
}

// Open tells whether an identifier stands for people nobody listed.
func Open(id ID) bool {
	for i := range specials {
		if specials[i].id == id {
			return specials[i].open
		}
	}
	return false
}
