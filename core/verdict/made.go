package verdict

import (
	"slices"

	"tarnwold/core/account"
	"tarnwold/core/right"
	"tarnwold/core/rule"
)

// Maker is who makes an item.
type Maker struct {
	Owner account.ID
	// Primary is the primary group (zero: none is known), PosixGroup the group
	// of what they make by mode (their primary one, or their private one's gid), and
	// DomainUsers the users group of their domain (zero: they have none).
	Primary, PosixGroup, DomainUsers account.ID
	// UID and GID are their numbers, by which they make things on POSIX trees.
	UID, GID account.ID
	// Administrator: they are on the server's list of administrators.
	Administrator bool
	// Builtin: they are in BUILTIN\Administrators there.
	Builtin bool
}

// The rights that a file's POSIX mode was measured to stand for where it was
// made with every bit of the group and of the others.
const byMode right.Set = 0x1201bf

// Made gives the descriptor of what somebody makes in a folder: what the
// folder hands down ([MS-DTYP] §2.5.3.4), and what the server makes of it.
func Made(parent *rule.Descriptor, folder bool, m Maker, tr *Traits) *rule.Descriptor {
	group := m.Primary
	if group.IsZero() {
		group = m.DomainUsers
	}
	if tr.NewDomainGroup && !m.DomainUsers.IsZero() {
		group = m.DomainUsers
	}
	up := parent
	if tr.NewDropsObjectTypes {
		up = untyped(parent)
	}
	owner := m.Owner
	if tr.AdministratorsOwn && m.Builtin {
		owner = builtinAdministrators
	}
	d := rule.NewChild(up, folder, owner, group, nil)
	if len(d.Rules.Entries) > 0 {
		if tr.NewMarkedByFolder && parent.Control&rule.RulesFollow == 0 {
			d.Control &^= rule.RulesFollow
			for i := range d.Rules.Entries {
				d.Rules.Entries[i].Flags &^= rule.Inherited
			}
		}
		return d
	}
	if !tr.NewByMode {
		d.Rules.Entries = rule.PlainRules(owner)
		return d
	}
	if owner, err := account.ParseID(tr.AdministratorMakes); err == nil && m.Administrator {
		d.Owner = owner
	}
	if d.Group = m.PosixGroup; d.Group.IsZero() {
		d.Group = group
	}
	d.Rules.Entries = []rule.Entry{{Rights: right.All, Who: d.Owner}, {Rights: byMode, Who: d.Group},
		{Rights: byMode, Who: account.Everyone}, {Rights: right.All, Who: account.System}}
	return d
}

// untyped gives a folder's rules with its object entries speaking of no type,
// so that they are handed down to every child.
func untyped(d *rule.Descriptor) *rule.Descriptor {
	typed := func(e rule.Entry) bool { return e.Kind.HasObject() }
	if !slices.ContainsFunc(d.Rules.Entries, typed) && !slices.ContainsFunc(d.Audit.Entries, typed) {
		return d
	}
	c := d.Clone()
	for _, es := range [][]rule.Entry{c.Rules.Entries, c.Audit.Entries} {
		for i := range es {
			if typed(es[i]) {
				es[i].Extra.Object = "\x00\x00\x00\x00"
			}
		}
	}
	return c
}
