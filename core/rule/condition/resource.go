package condition

import (
	"encoding/binary"
	"fmt"
	"strings"
	"sync"

	"tarnwold/core/account"
)

// The kinds of an item's attribute ([MS-DTYP] §2.4.10.1).
const (
	intAttribute   = 0x01
	uintAttribute  = 0x02
	textAttribute  = 0x03
	sidAttribute   = 0x05
	boolAttribute  = 0x06
	octetAttribute = 0x10
)

const (
	caseSensitive = 0x02
	disabled      = 0x10
)

// mostValues is how many values of an attribute are read.
const mostValues = 1 << 12

// Attribute reads an attribute of an item, as an entry for one carries it
// (CLAIM_SECURITY_ATTRIBUTE_RELATIVE_V1).
func Attribute(b []byte) (name string, c account.Claim, err error) {
	if len(b) < 16 {
		return "", c, fmt.Errorf("an attribute needs 16 bytes, %d are there", len(b))
	}
	at := func(offset uint32, need int) ([]byte, error) {
		if uint64(offset)+uint64(need) > uint64(len(b)) {
			return nil, fmt.Errorf("byte %d is behind its %d bytes", offset, len(b))
		}
		return b[offset:], nil
	}
	text := func(offset uint32) (string, error) {
		rest, err := at(offset, 2)
		if err != nil {
			return "", err
		}
		for i := 0; i+1 < len(rest); i += 2 {
			if rest[i] == 0 && rest[i+1] == 0 {
				s, ok := fromUTF16(rest[:i])
				if !ok {
					return "", fmt.Errorf("byte %d isn't UTF-16 text", offset)
				}
				return s, nil
			}
		}
		return "", fmt.Errorf("the text at byte %d has no end", offset)
	}
	if name, err = text(binary.LittleEndian.Uint32(b)); err != nil {
		return "", c, err
	}
	kind, flags, n := binary.LittleEndian.Uint16(b[4:]), binary.LittleEndian.Uint32(b[8:]), binary.LittleEndian.Uint32(b[12:])
	c.CaseSensitive = flags&caseSensitive != 0
	if flags&disabled != 0 {
		return name, account.Claim{}, nil
	}
	if n > mostValues || uint64(len(b)) < 16+4*uint64(n) {
		return "", c, fmt.Errorf("%d values in %d bytes", n, len(b))
	}
	for i := range n {
		offset := binary.LittleEndian.Uint32(b[16+4*i:])
		var v account.Value
		switch kind {
		case intAttribute, uintAttribute, boolAttribute:
			rest, err := at(offset, 8)
			if err != nil {
				return "", c, err
			}
			v = account.Value{Kind: account.IntClaim, Int: int64(binary.LittleEndian.Uint64(rest))}
			if kind == boolAttribute {
				v.Kind = account.BoolClaim
			}
			if kind == uintAttribute && v.Int < 0 {
				return "", c, fmt.Errorf("a number above %d isn't compared here", int64(1<<63-1))
			}
		case textAttribute:
			s, err := text(offset)
			if err != nil {
				return "", c, err
			}
			v = account.Value{Kind: account.TextClaim, Text: s}
		case sidAttribute, octetAttribute:
			rest, err := at(offset, 4)
			if err != nil {
				return "", c, err
			}
			size := binary.LittleEndian.Uint32(rest)
			if uint64(size) > uint64(len(rest)-4) {
				return "", c, fmt.Errorf("%d bytes at byte %d are too many", size, offset)
			}
			if v = (account.Value{Kind: account.OctetClaim, Text: string(rest[4 : 4+size])}); kind == sidAttribute {
				id, used, err := account.FromBinary(rest[4 : 4+size])
				if err != nil || used != int(size) {
					return "", c, fmt.Errorf("byte %d is not an identifier", offset)
				}
				v = account.Value{Kind: account.SIDClaim, ID: id}
			}
		default:
			return "", c, fmt.Errorf("0x%04x is not a kind of attribute", kind)
		}
		c.Values = append(c.Values, v)
	}
	return name, c, nil
}

var tests sync.Map // by what they say: *Test

// NewTest makes the test of a condition on an item that has some attributes, each as an
// entry carries it; nil where the condition can't be read. Attributes that can't be read
// aren't known.
func NewTest(condition string, attributes []string) *Test {
	var key strings.Builder
	for _, part := range append([]string{condition}, attributes...) {
		fmt.Fprintf(&key, "%d %s", len(part), part)
	}
	if known, ok := tests.Load(key.String()); ok {
		return known.(*Test)
	}
	n, err := Decode([]byte(condition))
	if err != nil {
		return nil
	}
	t := &Test{Cond: n, resource: map[string]account.Claim{}}
	for _, raw := range attributes {
		if name, c, err := Attribute([]byte(raw)); err == nil && len(c.Values) > 0 {
			t.resource[strings.ToLower(name)] = c
		}
	}
	one, _ := tests.LoadOrStore(key.String(), t)
	return one.(*Test)
}

var attributeKinds = []struct {
	text string
	code uint16
	kind account.ClaimKind
}{{"TI", intAttribute, account.IntClaim}, {"TU", uintAttribute, account.IntClaim}, {"TS", textAttribute, account.TextClaim},
	{"TD", sidAttribute, account.SIDClaim}, {"TX", octetAttribute, account.OctetClaim}, {"TB", boolAttribute, account.BoolClaim}}

// ParseAttribute reads the text form of an item's attribute, "name",TYPE,flags,value,…
// ([MS-DTYP] §2.5.1.1, attribute-data), and gives it as an entry carries it.
func ParseAttribute(text string, sid func(string) (account.ID, error)) ([]byte, error) {
	p := &parser{text: text, sid: sid}
	first, err := p.value(false)
	if err != nil || first.Kind != account.TextClaim || first.Text == "" {
		return nil, p.wrong("wanted the attribute's name in quotes")
	}
	if !p.take(",") {
		return nil, p.wrong("wanted a comma, found %s", p.here())
	}
	word := p.word()
	code, kind := uint16(0), account.ClaimKind("")
	for _, k := range attributeKinds {
		if strings.EqualFold(k.text, word) {
			code, kind = k.code, k.kind
		}
	}
	if code == 0 {
		return nil, p.wrong("wanted TI, TU, TS, TD, TX or TB, found %q", word)
	}
	if !p.take(",") {
		return nil, p.wrong("wanted a comma, found %s", p.here())
	}
	p.blank()
	flags, err := p.number()
	if err != nil || flags.Int < 0 || flags.Int > 1<<32-1 {
		return nil, p.wrong("wanted the attribute's flags, a number")
	}
	var values []account.Value
	for p.take(",") {
		v, err := p.value(false)
		if err != nil {
			return nil, err
		}
		switch {
		case kind == account.BoolClaim && v.Kind == account.IntClaim && (v.Int == 0 || v.Int == 1):
			v.Kind = kind
		case v.Kind != kind, code == uintAttribute && v.Int < 0:
			return nil, p.wrong("the value is none of type %s", word)
		}
		values = append(values, v.Value)
	}
	p.blank()
	if p.at < len(text) {
		return nil, p.wrong("wanted a comma or the end, found %s", p.here())
	}
	return encodeAttribute(first.Text, code, uint32(flags.Int), values), nil
}

// encodeAttribute gives an attribute as an entry carries it, filled up to whole words.
func encodeAttribute(name string, code uint16, flags uint32, values []account.Value) []byte {
	b := make([]byte, 16+4*len(values))
	binary.LittleEndian.PutUint16(b[4:], code)
	binary.LittleEndian.PutUint32(b[8:], flags)
	binary.LittleEndian.PutUint32(b[12:], uint32(len(values)))
	place := func(at int) {
		for len(b)%4 != 0 {
			b = append(b, 0)
		}
		binary.LittleEndian.PutUint32(b[at:], uint32(len(b)))
	}
	place(0)
	b = append(toUTF16(b, name), 0, 0)
	for i, v := range values {
		place(16 + 4*i)
		switch v.Kind {
		case account.TextClaim:
			b = append(toUTF16(b, v.Text), 0, 0)
		case account.SIDClaim:
			b = appendBlock(b, v.ID.AppendBinary(nil))
		case account.OctetClaim:
			b = appendBlock(b, []byte(v.Text))
		default:
			b = binary.LittleEndian.AppendUint64(b, uint64(v.Int))
		}
	}
	for len(b)%4 != 0 {
		b = append(b, 0)
	}
	return b
}

// FormatAttribute writes the text form of an attribute; ok is false where that would say
// something else.
func FormatAttribute(b []byte, sid func(account.ID) string) (text string, ok bool) {
	name, c, err := Attribute(b)
	if err != nil || len(b) < 16 {
		return "", false
	}
	code, flags := binary.LittleEndian.Uint16(b[4:]), binary.LittleEndian.Uint32(b[8:])
	w := &writer{sid: sid, ok: true}
	w.literal(&Literal{Value: account.Value{Kind: account.TextClaim, Text: name}})
	for _, k := range attributeKinds {
		if k.code == code {
			fmt.Fprintf(&w.b, ",%s,0x%x", k.text, flags)
		}
	}
	for _, v := range c.Values {
		w.b.WriteByte(',')
		l := &Literal{Value: v, Base: decimal}
		if v.Kind == account.BoolClaim {
			l.Kind = account.IntClaim
		}
		w.literal(l)
	}
	return w.b.String(), w.ok && string(encodeAttribute(name, code, flags, c.Values)) == string(b)
}
