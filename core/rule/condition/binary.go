package condition

import (
	"encoding/binary"
	"fmt"
	"unicode/utf16"

	"tarnwold/core/account"
)

// mark is what the binary form begins with (§2.4.4.17.4).
const mark = "artx"

// The codes of values (§2.4.4.17.5).
const (
	padding   = 0x00
	int8Code  = 0x01
	int64Code = 0x04
	textCode  = 0x10
	octetCode = 0x18
	listCode  = 0x50
	sidCode   = 0x51
)

// Signs and bases of numbers.
const (
	positive = 0x01
	negative = 0x02
	unsigned = 0x03
	octal    = 0x01
	decimal  = 0x02
	hexa     = 0x03
)

// Error is something wrong in the bytes of a condition.
type Error struct {
	Offset int
	What   string
}

func (e *Error) Error() string { return fmt.Sprintf("byte %d of the condition: %s", e.Offset, e.What) }

// Decode reads the binary form: operands before their operators, filled up with zeros to
// whole words.
func Decode(b []byte) (*Node, error) {
	if len(b) < len(mark) || string(b[:len(mark)]) != mark {
		return nil, &Error{0, fmt.Sprintf("it doesn't begin with %s", mark)}
	}
	d := &decoder{b: b, at: len(mark)}
	var stack []*Node
	pop := func() (n *Node) {
		if len(stack) > 0 {
			n, stack = stack[len(stack)-1], stack[:len(stack)-1]
		}
		return n
	}
	for d.at < len(b) {
		from := d.at
		code := b[d.at]
		d.at++
		switch op := Op(code); {
		case code == padding:
			for _, x := range b[d.at:] {
				if x != padding {
					return nil, &Error{from, "something follows a filling byte"}
				}
			}
			if len(b)-from > 3 {
				return nil, &Error{from, "more filling bytes than a word needs"}
			}
			d.at = len(b)
		case opNames[op] != "":
			n := &Node{Op: op}
			if !op.one() {
				n.Right = pop()
			}
			n.Left = pop()
			if n.Left == nil || !op.one() && n.Right == nil {
				return nil, &Error{from, fmt.Sprintf("%s has not enough operands", op)}
			}
			if err := n.fits(); err != nil {
				return nil, &Error{from, err.Error()}
			}
			stack = append(stack, n)
		case ofNames[Of(code)] != "" || Of(code) == Local:
			name, err := d.text()
			if err != nil {
				return nil, err
			}
			if name == "" {
				return nil, &Error{from, "an attribute without a name"}
			}
			stack = append(stack, &Node{Of: Of(code), Name: name})
		default:
			v, err := d.literal(code, true)
			if err != nil {
				return nil, err
			}
			stack = append(stack, &Node{Value: v})
		}
	}
	if len(stack) != 1 {
		return nil, &Error{len(b), fmt.Sprintf("%d parts are left, wanted one condition", len(stack))}
	}
	if stack[0].Value != nil {
		return nil, &Error{len(mark), "a value alone is no condition"}
	}
	return stack[0], nil
}

// logical tells whether a node is true or false by itself.
func (n *Node) logical() bool { return n.Op != 0 || n.Of != 0 }

// fits refuses operands that an operator can't have.
func (n *Node) fits() error {
	bad := func(what string) error { return fmt.Errorf("%s wants %s", n.Op, what) }
	switch {
	case n.Op == And || n.Op == Or:
		if !n.Left.logical() || !n.Right.logical() {
			return bad("conditions on either side")
		}
	case n.Op == Not:
		if !n.Left.logical() {
			return bad("a condition")
		}
	case n.Op.member():
		if n.Left.Value == nil {
			return bad("identifiers")
		}
		for _, v := range n.Left.Value.each() {
			if v.Kind != account.SIDClaim {
				return bad("identifiers")
			}
		}
	case n.Op == Exists || n.Op == NotExists:
		if n.Left.Of == 0 {
			return bad("an attribute")
		}
	default:
		if n.Left.Of == 0 {
			return bad("an attribute before it")
		}
		if n.Right.Of == 0 && n.Right.Value == nil {
			return bad("an attribute or a value behind it")
		}
	}
	return nil
}

type decoder struct {
	b  []byte
	at int
}

// block reads a length of four bytes and as many bytes.
func (d *decoder) block() ([]byte, error) {
	if len(d.b)-d.at < 4 {
		return nil, &Error{d.at, "a length needs four bytes"}
	}
	n := binary.LittleEndian.Uint32(d.b[d.at:])
	if uint64(n) > uint64(len(d.b)-d.at-4) {
		return nil, &Error{d.at, fmt.Sprintf("%d bytes where %d are left", n, len(d.b)-d.at-4)}
	}
	d.at += 4
	out := d.b[d.at : d.at+int(n)]
	d.at += int(n)
	return out, nil
}

func (d *decoder) text() (string, error) {
	from := d.at
	b, err := d.block()
	if err != nil {
		return "", err
	}
	s, ok := fromUTF16(b)
	if !ok {
		return "", &Error{from, "it isn't UTF-16 text"}
	}
	return s, nil
}

// fromUTF16 reads text; ok is false where it can't be written back the same.
func fromUTF16(b []byte) (string, bool) {
	if len(b)%2 != 0 {
		return "", false
	}
	units := make([]uint16, len(b)/2)
	for i := range units {
		units[i] = binary.LittleEndian.Uint16(b[2*i:])
	}
	s := string(utf16.Decode(units))
	return s, string(toUTF16(nil, s)) == string(b)
}

func toUTF16(b []byte, s string) []byte {
	for _, u := range utf16.Encode([]rune(s)) {
		b = binary.LittleEndian.AppendUint16(b, u)
	}
	return b
}

// literal reads a value; lists says that one may be a list.
func (d *decoder) literal(code byte, lists bool) (*Literal, error) {
	from := d.at - 1
	switch {
	case code >= int8Code && code <= int64Code:
		if len(d.b)-d.at < 10 {
			return nil, &Error{from, "a number needs ten bytes"}
		}
		l := &Literal{Value: account.Value{Kind: account.IntClaim, Int: int64(binary.LittleEndian.Uint64(d.b[d.at:]))}, Size: code, Sign: d.b[d.at+8], Base: d.b[d.at+9]}
		if l.Sign < positive || l.Sign > unsigned || l.Base < octal || l.Base > hexa {
			return nil, &Error{from, "a number's sign or base is none"}
		}
		if (l.Sign == negative) != (l.Int < 0) && l.Int != 0 {
			return nil, &Error{from, "a number's sign isn't that of its value"}
		}
		d.at += 10
		return l, nil
	case code == textCode:
		s, err := d.text()
		return &Literal{Value: account.Value{Kind: account.TextClaim, Text: s}}, err
	case code == octetCode:
		b, err := d.block()
		return &Literal{Value: account.Value{Kind: account.OctetClaim, Text: string(b)}}, err
	case code == sidCode:
		b, err := d.block()
		if err != nil {
			return nil, err
		}
		id, n, err := account.FromBinary(b)
		if err != nil || n != len(b) || string(id.AppendBinary(nil)) != string(b) {
			return nil, &Error{from, "it is not an identifier"}
		}
		return &Literal{Value: account.Value{Kind: account.SIDClaim, ID: id}}, nil
	case code == listCode && lists:
		b, err := d.block()
		if err != nil {
			return nil, err
		}
		in := &decoder{b: d.b[:d.at], at: d.at - len(b)}
		l := &Literal{IsList: true}
		for in.at < len(in.b) {
			code := in.b[in.at]
			in.at++
			one, err := in.literal(code, false)
			if err != nil {
				return nil, err
			}
			l.List = append(l.List, *one)
		}
		return l, nil
	}
	return nil, &Error{from, fmt.Sprintf("0x%02x is neither an operand nor an operator", code)}
}

// Encode gives the binary form.
func (n *Node) Encode() []byte {
	b := n.append([]byte(mark))
	for len(b)%4 != 0 {
		b = append(b, padding)
	}
	return b
}

func (n *Node) append(b []byte) []byte {
	switch {
	case n.Op != 0:
		b = n.Left.append(b)
		if n.Right != nil {
			b = n.Right.append(b)
		}
		return append(b, byte(n.Op))
	case n.Of != 0:
		return appendBlock(append(b, byte(n.Of)), toUTF16(nil, n.Name))
	}
	return n.Value.append(b)
}

func appendBlock(b, block []byte) []byte {
	return append(binary.LittleEndian.AppendUint32(b, uint32(len(block))), block...)
}

func (l *Literal) append(b []byte) []byte {
	if l.IsList {
		var in []byte
		for i := range l.List {
			in = l.List[i].append(in)
		}
		return appendBlock(append(b, listCode), in)
	}
	switch l.Kind {
	case account.IntClaim:
		b = binary.LittleEndian.AppendUint64(append(b, l.Size), uint64(l.Int))
		return append(b, l.Sign, l.Base)
	case account.OctetClaim:
		return appendBlock(append(b, octetCode), []byte(l.Text))
	case account.SIDClaim:
		return appendBlock(append(b, sidCode), l.ID.AppendBinary(nil))
	}
	return appendBlock(append(b, textCode), toUTF16(nil, l.Text))
}
