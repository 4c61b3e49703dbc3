// Package rule holds entries, the rules of an item or share, descriptors, and
// what a child inherits from its folder.
//
// A descriptor is the model of [MS-DTYP] §2.4.6; its text and binary forms are
// read and written elsewhere. Who is granted what by rules is decided in the
// package verdict.
package rule

import (
	"tarnwold/core/account"
	"tarnwold/core/right"
)

// Kind is the kind of an entry, with the values of [MS-DTYP] §2.4.4.1.
type Kind uint8

const (
	Allow         Kind = 0x00
	Deny          Kind = 0x01
	Audit         Kind = 0x02
	Alarm         Kind = 0x03
	AllowObject   Kind = 0x05
	DenyObject    Kind = 0x06
	AuditObject   Kind = 0x07
	AlarmObject   Kind = 0x08
	AllowIf       Kind = 0x09 // with a condition
	DenyIf        Kind = 0x0a
	AllowObjectIf Kind = 0x0b
	DenyObjectIf  Kind = 0x0c
	AuditIf       Kind = 0x0d
	AuditObjectIf Kind = 0x0f
	Label         Kind = 0x11 // a mandatory label
	Attribute     Kind = 0x12 // a resource attribute
	Policy        Kind = 0x13 // a central policy
)

var kindNames = map[Kind]string{
	Allow: "allow", Deny: "deny", Audit: "audit", Alarm: "alarm",
	AllowObject: "allow-object", DenyObject: "deny-object", AuditObject: "audit-object", AlarmObject: "alarm-object",
	AllowIf: "allow-if", DenyIf: "deny-if", AllowObjectIf: "allow-object-if", DenyObjectIf: "deny-object-if",
	AuditIf: "audit-if", AuditObjectIf: "audit-object-if", Label: "label", Attribute: "attribute", Policy: "policy",
}

// String names the kind as in a written entry.
func (k Kind) String() string {
	if n, ok := kindNames[k]; ok {
		return n
	}
	return "unknown"
}

// Known tells whether the kind is one this package names.
func (k Kind) Known() bool { _, ok := kindNames[k]; return ok }

// HasObject tells whether entries of the kind carry object types, [MS-DTYP] §2.4.4.3.
func (k Kind) HasObject() bool {
	switch k {
	case AllowObject, DenyObject, AuditObject, AlarmObject, AllowObjectIf, DenyObjectIf, AuditObjectIf:
		return true
	}
	return false
}

// Refuses tells whether the kind is one of those that deny.
func (k Kind) Refuses() bool {
	return k == Deny || k == DenyObject || k == DenyIf || k == DenyObjectIf
}

// Flags are the flags of an entry, [MS-DTYP] §2.4.4.1.
type Flags uint8

const (
	ObjectInherit    Flags = 0x01
	ContainerInherit Flags = 0x02
	NoPropagate      Flags = 0x04
	InheritOnly      Flags = 0x08
	Inherited        Flags = 0x10
	OnSuccess        Flags = 0x40
	OnFailure        Flags = 0x80

	inheritance = ObjectInherit | ContainerInherit | NoPropagate | InheritOnly
)

// Entry is one line of rules. Entries compare with ==.
type Entry struct {
	Kind   Kind
	Flags  Flags
	Rights right.Set
	Who    account.ID
	// Extra holds, for kinds beyond plain ones, the bytes that no field here
	// stands for, as they came: object flags and types before Who
	// ([MS-DTYP] §2.4.4.3), and what follows Who after an ExtraCut.
	Extra Extra
}

// Extra is the part of an entry kept as it came.
type Extra struct{ Object, Tail string }

// Scope gives what the entry covers.
func (e Entry) Scope() Scope { return e.Flags.Scope() }

// Covers tells whether the entry says all rights of another, mapped, on the item and as
// both are handed down, whoever they name: one that comes from above covers an own one as
// long as the item isn't sealed off.
func (e Entry) Covers(o Entry) bool {
	a, b := e.Scope(), o.Scope()
	return e.Rights.Map().Has(o.Rights.Map()) && a&b&^Once == b&^Once && (a&Once == 0 || b&Once != 0)
}

// Own tells whether the entry is set on the item itself.
func (e Entry) Own() bool { return e.Flags&Inherited == 0 }

// Counts tells whether the entry takes part in deciding on the item it
// stands on: it isn't inherit-only and its kind allows or denies. An object
// entry with a type counts only where types are asked for, which files have
// not ([MS-DTYP] §2.5.3.2).
func (e Entry) Counts() bool { return e.counts(false) }

// counts is Counts; with objectsRefuse object entries are taken as some
// servers were measured to take them: one that allows never counts, one that
// refuses always does.
func (e *Entry) counts(objectsRefuse bool) bool {
	if e.Flags&InheritOnly != 0 {
		return false
	}
	switch e.Kind {
	case Allow, Deny:
		return true
	case DenyIf: // an unknown condition refuses, and never grants
		return true
	case AllowObject, DenyObject:
		if objectsRefuse {
			return e.Kind == DenyObject
		}
		return len(e.Extra.Object) < 4 || e.Extra.Object[0]&1 == 0
	}
	return false
}

// Asks tells whether the entry carries a condition.
func (e *Entry) Asks() bool {
	switch e.Kind {
	case AllowIf, DenyIf, AllowObjectIf, DenyObjectIf:
		return true
	}
	return false
}

// conditional tells whether the entry is one with a condition that takes effect on the item
// it stands on, where types aren't asked for.
func (e *Entry) conditional() bool {
	if e.Flags&InheritOnly != 0 {
		return false
	}
	switch e.Kind {
	case AllowIf, DenyIf:
		return true
	case AllowObjectIf, DenyObjectIf:
		return len(e.Extra.Object) < 4 || e.Extra.Object[0]&1 == 0
	}
	return false
}

// attributes gives the item's resource attributes, each as its entry carries it
// ([MS-DTYP] §2.4.4.15).
func (d *Descriptor) attributes() (out []string) {
	for i := range d.Audit.Entries {
		if e := &d.Audit.Entries[i]; e.Kind == Attribute && e.Flags&InheritOnly == 0 {
			out = append(out, e.Extra.Tail)
		}
	}
	return out
}
