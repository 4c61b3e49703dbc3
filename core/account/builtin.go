package account

import "strings"

// The built-in groups ([MS-DTYP] §2.4.2.4, S-1-5-32-…) have one identifier on every
// machine and other members on each. An entry names them by that identifier; who is in
// one is told by the realm's own group, which has an identifier that stands in no rules:
// that of the realm, with the built-in one's two last parts behind it.

// machines is the authority of the realms of machines whose own identifier nobody has
// told. It is none of the standard's, and leaves the program in no descriptor.
const machines = 0x7461726e776f

// MachineRealm is the realm of a machine, which is told by a number alone.
func MachineRealm(n uint32) ID { return NewID(machines, n) }

// Nowhere is the realm of a machine of which no group is known.
var Nowhere = MachineRealm(0)

const builtinDomain = 32

// In gives the group that a built-in one is in a realm; ok is false where id is none.
func (id ID) In(realm ID) (group ID, ok bool) {
	rid, ok := id.Builtin()
	if !ok || realm.IsZero() || realm.h.Value().n > MaxSubs-2 {
		return ID{}, false
	}
	return realm.Child(builtinDomain).Child(rid), true
}

// Builtin gives the last part of a built-in group's identifier, S-1-5-32-…
func (id ID) Builtin() (rid uint32, ok bool) {
	if id.IsZero() {
		return 0, false
	}
	s := id.h.Value()
	return s.sub[1], s.auth == 5 && s.n == 2 && s.sub[0] == builtinDomain
}

// Realm tells of a realm's own built-in group which realm's it is, and by which
// identifier rules name it; ok is false of any other identifier.
func (id ID) Realm() (realm, named ID, ok bool) {
	if id.IsZero() {
		return ID{}, ID{}, false
	}
	s := id.h.Value()
	switch {
	case s.auth == machines && s.n == 3 && s.sub[1] == builtinDomain:
	case s.auth == 5 && s.n == 6 && s.sub[0] == 21 && s.sub[4] == builtinDomain:
	default:
		return ID{}, ID{}, false
	}
	named = NewID(5, builtinDomain, s.sub[s.n-1])
	s.n -= 2
	s.sub[s.n], s.sub[s.n+1] = 0, 0
	return makeID(s), named, true
}

// Named gives the identifier that rules name an account by: its own, but of a realm's
// built-in group and a machine's account.
func (id ID) Named() ID {
	if _, named, ok := id.Realm(); ok {
		return named
	}
	if _, named, ok := id.Machine(); ok {
		return named
	}
	return id
}

// BuiltinPrefix is what the names of built-in groups begin with.
const BuiltinPrefix = `BUILTIN\`

// builtins are the built-in groups by the last part of their identifier.
var builtins = [...]struct {
	rid  uint32
	name string
}{
	{544, "Administrators"}, {545, "Users"}, {546, "Guests"}, {547, "Power Users"}, {548, "Account Operators"},
	{549, "Server Operators"}, {550, "Print Operators"}, {551, "Backup Operators"}, {552, "Replicator"},
	{554, "Pre-Windows 2000 Compatible Access"}, {555, "Remote Desktop Users"}, {556, "Network Configuration Operators"},
	{557, "Incoming Forest Trust Builders"}, {558, "Performance Monitor Users"}, {559, "Performance Log Users"},
	{560, "Windows Authorization Access Group"}, {561, "Terminal Server License Servers"}, {562, "Distributed COM Users"},
	{568, "IIS_IUSRS"}, {569, "Cryptographic Operators"}, {573, "Event Log Readers"}, {574, "Certificate Service DCOM Access"},
	{575, "RDS Remote Access Servers"}, {576, "RDS Endpoint Servers"}, {577, "RDS Management Servers"}, {578, "Hyper-V Administrators"},
	{579, "Access Control Assistance Operators"}, {580, "Remote Management Users"}, {582, "Storage Replica Administrators"},
}

// BuiltinIDs lists the built-in groups as rules name them.
func BuiltinIDs() []ID {
	out := make([]ID, len(builtins))
	for i, b := range builtins {
		out[i] = NewID(5, builtinDomain, b.rid)
	}
	return out
}

// BuiltinNames lists the names of the built-in groups.
func BuiltinNames() []string {
	out := make([]string, len(builtins))
	for i, b := range builtins {
		out[i] = BuiltinPrefix + b.name
	}
	return out
}

func builtinName(id ID) (string, bool) {
	if rid, ok := id.Builtin(); ok {
		for _, b := range builtins {
			if b.rid == rid {
				return BuiltinPrefix + b.name, true
			}
		}
	}
	return "", false
}

// former are the names that three of them had here.
var former = map[string]uint32{"machine-administrators@": 544, "machine-users@": 545, "machine-guests@": 546}

func parseBuiltin(name string) (ID, bool) {
	if rid, ok := former[strings.ToLower(name)]; ok {
		return NewID(5, builtinDomain, rid), true
	}
	if len(name) < len(BuiltinPrefix) || !strings.EqualFold(name[:len(BuiltinPrefix)], BuiltinPrefix) {
		return ID{}, false
	}
	for _, b := range builtins {
		if strings.EqualFold(name[len(BuiltinPrefix):], b.name) {
			return NewID(5, builtinDomain, b.rid), true
		}
	}
	return ID{}, false
}
