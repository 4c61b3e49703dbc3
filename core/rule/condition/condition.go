// Package condition reads, writes and evaluates the conditions of entries
// ([MS-DTYP] §2.4.4.17): what has to be so of who asks, and of the item, for an entry to
// count. A condition is true, false or unknown; an entry that allows counts where it is
// true, one that denies where it isn't false (§2.5.3.1.5).
package condition

import (
	"cmp"
	"slices"
	"strings"

	"tarnwold/core/account"
)

// Truth is what a condition comes to.
type Truth int8

const (
	False   Truth = -1
	Unknown Truth = 0
	True    Truth = 1
)

func truth(yes bool) Truth {
	if yes {
		return True
	}
	return False
}

// Op is an operator, by its byte in the binary form (§2.4.4.17.6 and 7).
type Op byte

const (
	Equal       Op = 0x80
	NotEqual    Op = 0x81
	Less        Op = 0x82
	LessEqual   Op = 0x83
	Greater     Op = 0x84
	GreatEqual  Op = 0x85
	Contains    Op = 0x86
	Exists      Op = 0x87
	AnyOf       Op = 0x88
	NotContains Op = 0x8e
	NotExists   Op = 0x8d
	NotAnyOf    Op = 0x8f

	MemberOf             Op = 0x89
	DeviceMemberOf       Op = 0x8a
	MemberOfAny          Op = 0x8b
	DeviceMemberOfAny    Op = 0x8c
	NotMemberOf          Op = 0x90
	NotDeviceMemberOf    Op = 0x91
	NotMemberOfAny       Op = 0x92
	NotDeviceMemberOfAny Op = 0x93

	And Op = 0xa0
	Or  Op = 0xa1
	Not Op = 0xa2
)

var opNames = map[Op]string{
	Equal: "==", NotEqual: "!=", Less: "<", LessEqual: "<=", Greater: ">", GreatEqual: ">=", Contains: "Contains", Exists: "Exists", AnyOf: "Any_of",
	NotContains: "Not_Contains", NotExists: "Not_Exists", NotAnyOf: "Not_Any_of", MemberOf: "Member_of", DeviceMemberOf: "Device_Member_of",
	MemberOfAny: "Member_of_Any", DeviceMemberOfAny: "Device_Member_of_Any", NotMemberOf: "Not_Member_of", NotDeviceMemberOf: "Not_Device_Member_of",
	NotMemberOfAny: "Not_Member_of_Any", NotDeviceMemberOfAny: "Not_Device_Member_of_Any", And: "&&", Or: "||", Not: "!",
}

// String gives the operator as it is written.
func (o Op) String() string { return opNames[o] }

// one tells whether an operator has one operand.
func (o Op) one() bool {
	return o == Not || o == Exists || o == NotExists || o.member()
}

func (o Op) member() bool {
	return o >= MemberOf && o <= DeviceMemberOfAny || o >= NotMemberOf && o <= NotDeviceMemberOfAny
}

// Of says whose attribute one is, by its byte in the binary form.
type Of byte

const (
	Local    Of = 0xf8 // of the program that asks; no file server has any
	User     Of = 0xf9
	Resource Of = 0xfa
	Device   Of = 0xfb
)

var ofNames = map[Of]string{Local: "", User: "@User.", Resource: "@Resource.", Device: "@Device."}

// Node is a condition, or a part of one: an operator with its operands, an attribute, or a
// value.
type Node struct {
	Op          Op
	Left, Right *Node
	Of          Of // an attribute
	Name        string
	Value       *Literal // a value
}

// Literal is a value as it is written.
type Literal struct {
	account.Value
	// How a number was written, byte for byte: its size's code, sign and base.
	Size, Sign, Base byte
	List             []Literal // of a list
	IsList           bool
}

// Facts are what a condition is asked about.
type Facts interface {
	// Has tells whether who asks has an identifier in their token.
	Has(account.ID) bool
	// Claim gives an attribute of who asks; ok is false where they have none of the name.
	Claim(name string) (account.Claim, bool)
}

// Test is a condition with the attributes of the item it stands on. Those that are the
// same are one pointer.
type Test struct {
	Cond     *Node
	resource map[string]account.Claim
}

// Holds evaluates the condition.
func (t *Test) Holds(f Facts) Truth { return t.eval(t.Cond, f) }

// Counts tells whether an entry with the condition counts: one that refuses does where
// nobody knows too.
func (t *Test) Counts(f Facts, refuses bool) bool {
	got := t.eval(t.Cond, f)
	return got == True || refuses && got == Unknown
}

func (t *Test) eval(n *Node, f Facts) Truth {
	switch {
	case n.Op == And:
		return min(t.eval(n.Left, f), t.eval(n.Right, f))
	case n.Op == Or:
		return max(t.eval(n.Left, f), t.eval(n.Right, f))
	case n.Op == Not:
		return -t.eval(n.Left, f)
	case n.Op.member():
		return member(n, f)
	case n.Op == Exists || n.Op == NotExists:
		if n.Left.Of == Device || n.Left.Of == Local {
			return Unknown
		}
		_, ok := t.attribute(n.Left, f)
		return truth(ok == (n.Op == Exists))
	case n.Op != 0:
		return t.compare(n, f)
	case n.Of != 0: // an attribute by itself
		a, ok := t.attribute(n, f)
		if !ok || len(a.Values) != 1 {
			return Unknown
		}
		switch v := a.Values[0]; v.Kind {
		case account.IntClaim, account.BoolClaim:
			return truth(v.Int != 0)
		case account.TextClaim:
			return truth(v.Text != "")
		}
	}
	return Unknown
}

// member evaluates the operators that ask for groups.
func member(n *Node, f Facts) Truth {
	op, not := n.Op, false
	switch op {
	case NotMemberOf, NotMemberOfAny:
		op, not = op-NotMemberOf+MemberOf, true
	case DeviceMemberOf, DeviceMemberOfAny, NotDeviceMemberOf, NotDeviceMemberOfAny:
		return Unknown // of the machine that somebody comes from nothing is known
	}
	ids := n.Left.Value.each()
	in := func(v account.Value) bool { return f.Has(v.ID) }
	var yes bool
	if op == MemberOf {
		yes = !slices.ContainsFunc(ids, func(v account.Value) bool { return !in(v) })
	} else {
		yes = slices.ContainsFunc(ids, in)
	}
	return truth(yes != not)
}

// each gives the values of a literal, one or many.
func (l *Literal) each() (out []account.Value) {
	if !l.IsList {
		return []account.Value{l.Value}
	}
	for i := range l.List {
		out = append(out, l.List[i].Value)
	}
	return out
}

// attribute finds an attribute of who asks, or of the item.
func (t *Test) attribute(n *Node, f Facts) (account.Claim, bool) {
	switch n.Of {
	case User:
		return f.Claim(n.Name)
	case Resource:
		a, ok := t.resource[strings.ToLower(n.Name)]
		return a, ok
	}
	return account.Claim{}, false
}

// operand gives the values of either side of a comparison; ok is false where they aren't
// known.
func (t *Test) operand(n *Node, f Facts) (c account.Claim, ok bool) {
	if n.Value != nil {
		return account.Claim{Values: n.Value.each()}, true
	}
	c, ok = t.attribute(n, f)
	return c, ok && len(c.Values) > 0
}

// compare evaluates the operators that compare: both sides have to be known, and of one
// kind.
func (t *Test) compare(n *Node, f Facts) Truth {
	a, ok := t.operand(n.Left, f)
	b, too := t.operand(n.Right, f)
	if !ok || !too {
		return Unknown
	}
	for _, list := range [][]account.Value{a.Values, b.Values} {
		for _, v := range list {
			if !alike(v.Kind, a.Values[0].Kind) {
				return Unknown
			}
		}
	}
	exact := a.CaseSensitive || b.CaseSensitive
	has := func(list []account.Value, v account.Value) bool {
		return slices.ContainsFunc(list, func(o account.Value) bool { c, ok := order(o, v, exact); return ok && c == 0 })
	}
	all := func(list, of []account.Value) bool {
		return !slices.ContainsFunc(of, func(v account.Value) bool { return !has(list, v) })
	}
	switch n.Op {
	case Equal, NotEqual:
		return truth((all(a.Values, b.Values) && all(b.Values, a.Values)) == (n.Op == Equal))
	case Contains, NotContains:
		return truth(all(a.Values, b.Values) == (n.Op == Contains))
	case AnyOf, NotAnyOf:
		any := slices.ContainsFunc(b.Values, func(v account.Value) bool { return has(a.Values, v) })
		return truth(any == (n.Op == AnyOf))
	}
	if len(a.Values) != 1 || len(b.Values) != 1 {
		return Unknown
	}
	c, ok := order(a.Values[0], b.Values[0], exact)
	if !ok {
		return Unknown
	}
	switch n.Op {
	case Less:
		return truth(c < 0)
	case LessEqual:
		return truth(c <= 0)
	case Greater:
		return truth(c > 0)
	case GreatEqual:
		return truth(c >= 0)
	}
	return Unknown
}

// alike tells whether two kinds are compared: what is yes or no is written as a number.
func alike(a, b account.ClaimKind) bool {
	number := func(k account.ClaimKind) bool { return k == account.IntClaim || k == account.BoolClaim }
	return a == b || number(a) && number(b)
}

// order compares two values of one kind; ok is false where none comes before the other and
// they aren't the same: of identifiers.
func order(a, b account.Value, exact bool) (c int, ok bool) {
	switch a.Kind {
	case account.IntClaim, account.BoolClaim:
		return cmp.Compare(a.Int, b.Int), true
	case account.SIDClaim:
		return 0, a.ID == b.ID
	case account.OctetClaim:
		return strings.Compare(a.Text, b.Text), true
	}
	if !exact {
		return strings.Compare(strings.ToUpper(a.Text), strings.ToUpper(b.Text)), true
	}
	return strings.Compare(a.Text, b.Text), true
}

// Missing lists what a condition asks for and nobody knows of who asks or of the item, as it
// is written.
func (t *Test) Missing(f Facts) (out []string) {
	add := func(s string) {
		if !slices.Contains(out, s) {
			out = append(out, s)
		}
	}
	var look func(n *Node)
	look = func(n *Node) {
		if n == nil {
			return
		}
		if n.Of != 0 {
			if _, ok := t.attribute(n, f); !ok {
				add(ofNames[n.Of] + n.Name)
			}
		}
		switch n.Op {
		case DeviceMemberOf, DeviceMemberOfAny, NotDeviceMemberOf, NotDeviceMemberOfAny:
			add("the groups of the machine they come from")
		case Exists, NotExists: // that there is none is an answer
			if n.Left.Of != Device && n.Left.Of != Local {
				return
			}
		}
		look(n.Left)
		look(n.Right)
	}
	look(t.Cond)
	return out
}

// IDs lists the identifiers a condition names.
func (n *Node) IDs() (out []account.ID) {
	if n == nil {
		return nil
	}
	if n.Value != nil {
		for _, v := range n.Value.each() {
			if v.Kind == account.SIDClaim {
				out = append(out, v.ID)
			}
		}
	}
	return append(append(out, n.Left.IDs()...), n.Right.IDs()...)
}
