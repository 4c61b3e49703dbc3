package verdict

import (
	"fmt"
	"sort"
	"strings"

	"tarnwold/core/account"
	"tarnwold/core/right"
	"tarnwold/core/rule"
)

// Traits are what a kind of server does beyond its entries in order. They are
// data kept with the server; nothing else tells servers apart. The zero value
// of each is the standard's way.
type Traits struct {
	Name string `json:"name"` // of the set they began as
	account.Traits
	// NamingShowsAttributes: whoever can name an item is granted
	// read-attributes on it, as far as the share allows.
	NamingShowsAttributes bool `json:"naming-shows-attributes"`
	// AsksFoldersAbove: every folder above must grant execute.
	AsksFoldersAbove bool `json:"asks-folders-above"`
	// ReadOnlyTakes are the rights a read-only connection takes away.
	ReadOnlyTakes right.Set `json:"read-only-takes"`
	// AdministratorsPass: the server's administrators are granted everything
	// by the file's rules; a share's rules still limit them.
	AdministratorsPass bool `json:"administrators-pass"`
	// MovedKeeps: an item moved within the server keeps its inherited
	// entries until something renews them.
	MovedKeeps bool `json:"moved-keeps"`
	// ShareOpensConnection: the share's rules are asked for the connection
	// first: without read-data and write-data it is refused, without
	// read-data on a share switched to read-only too, and without write-data
	// it is read-only.
	ShareOpensConnection bool `json:"share-opens-connection"`
	// AbsentShareRefuses: a share whose rules are absent refuses everybody whom no
	// privilege lets through.
	AbsentShareRefuses bool `json:"absent-share-refuses"`
	// ShareOwnerRights: the owner of the share's own rules has read-acl and
	// write-acl through it.
	ShareOwnerRights bool `json:"share-owner-rights"`
	// ObjectEntriesRefuse: object entries that allow never count, those that
	// refuse always do.
	ObjectEntriesRefuse bool `json:"object-entries-refuse"`
	// ShareFolderAboveItself: on the share's own folder, that folder is taken
	// for the folder above.
	ShareFolderAboveItself bool `json:"share-folder-above-itself"`
	// AddingIgnoresOwner: adding to a folder doesn't count what owning brings.
	AddingIgnoresOwner bool `json:"adding-ignores-owner"`
	// NewByMode: an item made where nothing is handed down gets what its
	// POSIX mode stands for.
	NewByMode bool `json:"new-by-mode"`
	// NewMarkedByFolder: what a new item inherits is marked so only where its
	// folder's list has the auto-inherited flag.
	NewMarkedByFolder bool `json:"new-marked-by-folder"`
	// NewDomainGroup: a new item's group is the domain's users group where
	// something is handed down.
	NewDomainGroup bool `json:"new-domain-group"`
	// NewDropsObjectTypes: object entries are handed down without their types,
	// those for other types of child too.
	NewDropsObjectTypes bool `json:"new-drops-object-types"`
	// AdministratorMakes is who owns what an administrator makes where nothing
	// is handed down; empty: he.
	AdministratorMakes string `json:"administrator-makes"`
	// RootPasses: whoever has uid 0 passes the files' rules; a file that nobody
	// may run they may not run either.
	RootPasses bool `json:"root-passes"`
	// Umask is what is taken from the mode of a new item where its folder has
	// no default list, on POSIX trees.
	Umask uint16 `json:"umask"`
	// SharesDescribe: shares over POSIX trees are those of an SMB server that
	// decides by a descriptor and asks the kernel besides: one it makes of each
	// item's list ("lists"), or one it keeps beside that ("kept"). Exports and
	// the server itself don't; empty: shares don't either.
	SharesDescribe string      `json:"shares-describe"`
	served         rule.Served // by such a share, see Through
	// PrivilegesPass: backup and restore pass what a share limits, and taking ownership
	// the files' rules too.
	PrivilegesPass bool `json:"privileges-pass"`
	// ShareWholeForTakers: for members of BUILTIN\\Administrators, where these may take
	// ownership of anything, a share's rules count where they give everything, or all but
	// write-owner, and for nothing else.
	ShareWholeForTakers bool `json:"share-whole-for-takers"`
	// TakingCounts: who may take ownership has write-owner on every item. A share limits
	// that like all else.
	TakingCounts bool `json:"taking-counts"`
	// DefaultPrivileges: where the server told of no privileges, those count that such
	// servers begin with.
	DefaultPrivileges bool `json:"default-privileges"`
	// AdministratorsOwn: what a member of BUILTIN\\Administrators makes is that group's.
	AdministratorsOwn bool `json:"administrators-own"`
	// LabelsCount: an item's mandatory label takes from who is below it.
	LabelsCount bool `json:"labels-count"`
	// ConditionsCount: conditions of entries are evaluated.
	ConditionsCount bool `json:"conditions-count"`
	// FolderMarksKeep: a folder's read-only mark keeps it from being deleted, and takes no
	// right to write into it.
	FolderMarksKeep bool `json:"folder-marks-keep"`
	// BareGenerics: generic bits that stand in a descriptor unmapped give nothing: they are
	// mapped when a descriptor is set.
	BareGenerics bool `json:"bare-generics"`
	// AsSpecified: renaming by any handle and replacing need delete, and an owner is
	// given by who may restore, as [MS-FSA] has it; answers say that they are as
	// specified, and not measured.
	AsSpecified bool `json:"as-specified"`
	// Powers are who has which privilege on the server. They are of one server, and
	// none of what its kind does.
	Powers *Powers `json:"privileges,omitempty"`
	// WritesAudit: the server writes down what audit entries ask for.
	WritesAudit bool `json:"writes-audit"`
}

var posixShare = Traits{
	Name:                   "smb-domain",
	Traits:                 account.Traits{POSIXIDs: true, DomainUsers: true, MailGroupsLeftOut: true},
	NamingShowsAttributes:  true,
	ReadOnlyTakes:          right.WriteData | right.AppendData | right.WriteNamedAttrs | right.WriteAttributes | right.DeleteChild,
	AdministratorsPass:     true,
	MovedKeeps:             true,
	ShareOpensConnection:   true,
	AbsentShareRefuses:     true,
	ShareOwnerRights:       true,
	ObjectEntriesRefuse:    true,
	ShareFolderAboveItself: true,
	AddingIgnoresOwner:     true,
	NewByMode:              true,
	NewMarkedByFolder:      true,
	NewDomainGroup:         true,
	NewDropsObjectTypes:    true,
	AdministratorMakes:     "S-1-22-1-0",
	PrivilegesPass:         true,
	ShareWholeForTakers:    true,
	BareGenerics:           true,
}

// posixTree is a POSIX system asked at itself: its own trees, by the access check
// algorithm of POSIX.1e draft 17 §23.1.5 as a Linux kernel was measured to follow
// it.
var posixTree = Traits{
	Name:               "posix",
	Traits:             account.Traits{POSIXIDs: true, FirstAlone: true},
	AsksFoldersAbove:   true,
	AdministratorsPass: true,
	RootPasses:         true,
	MovedKeeps:         true,
	Umask:              0o022,
	ReadOnlyTakes:      right.WriteData | right.AppendData | right.WriteNamedAttrs | right.WriteAttributes | right.DeleteChild | right.Delete | right.WriteACL | right.WriteOwner,
}

// Describing is what SharesDescribe may say.
var Describing = map[string]rule.Served{"": rule.NotServed, "lists": rule.ServedLists, "kept": rule.ServedKept}

// Through gives the traits of one kind of route: smb tells of an SMB share.
func (t Traits) Through(smb bool) Traits {
	if t.served = rule.NotServed; smb {
		t.served = Describing[t.SharesDescribe]
	}
	if t.served != rule.NotServed {
		p := &posixShare
		t.NamingShowsAttributes, t.ReadOnlyTakes = p.NamingShowsAttributes, p.ReadOnlyTakes
		t.ShareOpensConnection, t.AbsentShareRefuses, t.ShareOwnerRights = p.ShareOpensConnection, p.AbsentShareRefuses, p.ShareOwnerRights
		t.ShareFolderAboveItself, t.AddingIgnoresOwner, t.ObjectEntriesRefuse = p.ShareFolderAboveItself, p.AddingIgnoresOwner, p.ObjectEntriesRefuse
	}
	return t
}

// named gives the sets of traits there are.
func named() map[string]Traits {
	alone := posixShare
	alone.Name, alone.Layers, alone.MailGroupsLeftOut = "smb", 1, false // its groups are those of a POSIX system
	member := posixShare
	member.Name, member.OwnGroupsOnce = "smb-member", true
	served := posixTree
	served.Name, served.SharesDescribe = "posix-smb", "lists"
	kept := served
	kept.Name, kept.SharesDescribe = "posix-smb-kept", "kept"
	kept.DomainUsers = true
	plain := Traits{
		Name:   "plain",
		Traits: account.Traits{MailGroupsLeftOut: true},
		ReadOnlyTakes: right.WriteData | right.AppendData | right.WriteNamedAttrs | right.WriteAttributes |
			right.DeleteChild | right.Delete | right.WriteACL | right.WriteOwner,
		MovedKeeps:      true,
		WritesAudit:     true,
		ConditionsCount: true,
	}
	specified := plain
	specified.Name, specified.AsSpecified = "specified", true
	specified.TakingCounts, specified.DefaultPrivileges = true, true
	specified.AdministratorsOwn, specified.LabelsCount = true, true
	specified.FolderMarksKeep = true
	return map[string]Traits{
		// smb is what a standalone SMB server on a POSIX system was measured
		// to do; smb-domain, a domain's controller, the same with groups followed to any
		// depth; smb-member a member of a domain, which does so but for its own.
		"smb":        alone,
		"smb-domain": posixShare,
		"smb-member": member,
		// posix-smb is the same with an SMB server's shares over them; posix-smb-kept
		// with one that keeps descriptors beside the lists.
		"posix": posixTree, "posix-smb": served, "posix-smb-kept": kept,
		// plain is the standard's decision and nothing beside it; specified is a server of
		// which nothing but the published standards is known.
		"plain": plain, "specified": specified,
	}
}

// NamedTraits gives the set of traits of a name.
func NamedTraits(name string) (Traits, error) {
	if t, ok := named()[name]; ok {
		return t, nil
	}
	return Traits{}, fmt.Errorf("no set of traits is called %q; there are %s", name, strings.Join(TraitNames(), ", "))
}

// TraitNames lists the named sets.
func TraitNames() []string {
	var names []string
	for n := range named() {
		names = append(names, n)
	}
	sort.Strings(names)
	return names
}

// Trait is one trait for a reader.
type Trait struct{ Name, About, Seen string }

const measured = "SMB on POSIX, measured"

// TraitList is every trait, as it is shown.
var TraitList = [...]Trait{
	{"group-layers", "how many layers of groups count beyond the user's own; any: no end", measured + ": 1"},
	{"mail-groups-left-out", "groups of purpose mail are in no token, and pass no membership on", "a domain, measured"},
	{"first-group-alone", "of a user's primary group that alone counts, and no group that it is in", "a system's names over LDAP, measured"},
	{"own-groups-once", "a machine's own groups count for whoever they list and for groups of elsewhere, and not in one another; its built-in ones count for its own too", "a domain's member, measured"},
	{"former-ids", "identifiers that a user and their groups had elsewhere (sIDHistory) count too, as a domain may add them", "a domain, measured: no"},
	{"posix-ids", "uid and gids stand beside SIDs; the private group's gid is the uid", measured},
	{"domain-users", "every user is in the domain's users group", measured},
	{"share-opens-connection", "the share's rules open or refuse the connection, or make it read-only, before any file is asked", measured},
	{"absent-share-refuses", "a share without rules refuses everybody whom no privilege lets through", measured},
	{"share-owner-rights", "who owns the share's rules has read-acl and write-acl through it", measured},
	{"read-only-takes", "the rights a read-only connection takes away", measured},
	{"privileges-pass", "backup and restore pass what a share limits, and taking ownership the files' rules too", measured},
	{"share-whole-for-takers", "to members of BUILTIN\\Administrators, where these may take ownership, a share's rules give everything or nothing", measured},
	{"taking-counts", "who may take ownership has write-owner on every item, as far as the share allows", "[MS-DTYP] §2.5.3.2"},
	{"default-privileges", "where the server told of no privileges, its administrators and Backup Operators have those that such servers begin with", "[MS-LSAD] §3.1.1.2.1"},
	{"administrators-own", "what a member of BUILTIN\\Administrators makes belongs to that group", "[MS-DTYP] §2.5.3.4.1"},
	{"labels-count", "an item's mandatory label takes from whoever is below it", "[MS-DTYP] §2.5.3.3"},
	{"conditions-count", "conditions of entries are evaluated; else one that allows never counts, and one that denies always does", "[MS-DTYP] §2.5.3.1.5"},
	{"bare-generics", "generic bits that a descriptor has unmapped give and refuse nothing; setting one maps them", measured},
	{"folder-marks-keep", "a folder's read-only mark keeps it from being deleted, and takes no right to write into it", "[MS-FSA] §2.1.5.1.2.1, §2.1.5.15.3"},
	{"as-specified", "renaming and replacing need delete, and who may restore gives ownership; answers say that they are as specified", "[MS-FSA] §2.1.5.15, §2.1.5.17"},
	{"naming-shows-attributes", "naming an item grants read-attributes on it, as far as the share allows", measured},
	{"asks-folders-above", "every folder above an item is asked for execute", "POSIX systems"},
	{"administrators-pass", "administrators pass the files' rules, not the share's", measured},
	{"share-folder-above-itself", "the share's own folder counts as the folder above itself", measured},
	{"object-entries-refuse", "object entries that allow never count, those that refuse always do", measured},
	{"adding-ignores-owner", "adding to a folder doesn't count what owning it brings", measured},
	{"moved-keeps", "a moved item keeps its inherited entries until they are renewed", measured},
	{"new-by-mode", "where nothing is handed down, a new item gets what its POSIX mode stands for", measured},
	{"new-marked-by-folder", "what a new item inherits is marked so only if the folder's list is marked auto-inherited", measured},
	{"new-domain-group", "a new item's group is the domain's users group where something is handed down", measured},
	{"new-drops-object-types", "object entries lose their types when they are handed down, those for other types of child too", measured},
	{"root-passes", "uid 0 passes the files' rules; what nobody may run they may not run either", "POSIX systems, measured"},
	{"umask", "what is taken from a new item's mode where its folder has no default list, in octal", "POSIX systems"},
	{"shares-describe", "shares are an SMB server's over POSIX trees, which decides by a descriptor and asks the kernel too: lists: one made of each list; kept: one it keeps beside", measured},
	{"writes-audit", "it writes down what audit entries ask for", measured + ": no"},
	{"administrator-makes", "who owns what an administrator makes where nothing is handed down; empty: the administrator", measured},
}

// Reading says how the server reads an item's rules.
func (t *Traits) Reading() rule.Reading {
	return rule.Reading{Owner: true, Served: t.served, ObjectsRefuse: t.ObjectEntriesRefuse, Labels: t.LabelsCount, Conditions: t.ConditionsCount, FoldersKept: t.FolderMarksKeep, BareGenerics: t.BareGenerics}
}

// AboveReading says how the rules of the folders above an item are read where
// they are asked for execute: that is the kernel's alone.
func (t *Traits) AboveReading() rule.Reading {
	how := t.Reading()
	how.Served = rule.NotServed
	return how
}

// AsksOwnFolder tells whether a share's own folder is asked for execute too, by
// whoever comes to it: a kernel has to enter it.
func (t *Traits) AsksOwnFolder() bool { return t.served != rule.NotServed && t.AsksFoldersAbove }

// KeepsDescriptors tells whether shares are asked of which the server keeps
// descriptors beside POSIX lists.
func (t *Traits) KeepsDescriptors() bool { return t.served == rule.ServedKept }

// ShareReading says how it reads a share's rules.
func (t *Traits) ShareReading() rule.Reading {
	return rule.Reading{Owner: t.ShareOwnerRights, ObjectsRefuse: t.ObjectEntriesRefuse, Conditions: t.ConditionsCount}
}

// AddReading says how it reads a folder's rules when something is added.
func (t *Traits) AddReading() rule.Reading {
	how := t.Reading()
	how.Into, how.Adding = true, t.AddingIgnoresOwner
	return how
}
