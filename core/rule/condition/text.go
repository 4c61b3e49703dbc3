package condition

import (
	"encoding/hex"
	"fmt"
	"strconv"
	"strings"
	"unicode"

	"tarnwold/core/account"
)

// mostNested is how deep brackets and ! may stand in each other.
const mostNested = 200

// Parse reads the text form (§2.5.1.1, conditional-expression); sid reads what stands in
// SID(…).
func Parse(text string, sid func(string) (account.ID, error)) (*Node, error) {
	p := &parser{text: text, sid: sid}
	n, err := p.or(0)
	if err != nil {
		return nil, err
	}
	p.blank()
	if p.at < len(text) {
		return nil, p.wrong("wanted && or ||, or the end, found %s", p.here())
	}
	return n, nil
}

// SyntaxError is something wrong in the text of a condition.
type SyntaxError struct {
	Column int // in bytes, from 1
	What   string
}

func (e *SyntaxError) Error() string {
	return fmt.Sprintf("column %d of the condition: %s", e.Column, e.What)
}

type parser struct {
	text string
	at   int
	sid  func(string) (account.ID, error)
}

func (p *parser) wrong(format string, args ...any) error {
	return &SyntaxError{p.at + 1, fmt.Sprintf(format, args...)}
}

func (p *parser) here() string {
	if p.at >= len(p.text) {
		return "the end"
	}
	return strconv.Quote(p.text[p.at:min(len(p.text), p.at+12)])
}

func (p *parser) blank() {
	for p.at < len(p.text) && strings.IndexByte(" \t\r\n", p.text[p.at]) >= 0 {
		p.at++
	}
}

// take passes over a sign, if it stands there.
func (p *parser) take(sign string) bool {
	p.blank()
	if !strings.HasPrefix(p.text[p.at:], sign) {
		return false
	}
	p.at += len(sign)
	return true
}

func (p *parser) or(deep int) (*Node, error) {
	return p.joined(Or, func() (*Node, error) {
		return p.joined(And, func() (*Node, error) { return p.term(deep) })
	})
}

// joined reads parts that an operator stands between.
func (p *parser) joined(op Op, part func() (*Node, error)) (*Node, error) {
	n, err := part()
	for err == nil && p.take(op.String()) {
		next := &Node{Op: op, Left: n}
		if next.Right, err = part(); err == nil {
			n = next
		}
	}
	return n, err
}

func (p *parser) term(deep int) (*Node, error) {
	if deep > mostNested {
		return nil, p.wrong("more than %d brackets stand in each other", mostNested)
	}
	p.blank()
	switch {
	case p.take("!"):
		n, err := p.term(deep + 1)
		return &Node{Op: Not, Left: n}, err
	case p.take("("):
		n, err := p.or(deep + 1)
		if err == nil && !p.take(")") {
			err = p.wrong("wanted ), found %s", p.here())
		}
		return n, err
	}
	from := p.at
	word := p.word()
	for op, name := range opNames {
		if !op.one() || op == Not || !strings.EqualFold(name, word) {
			continue
		}
		n := &Node{Op: op}
		var err error
		if op.member() {
			n.Left, err = p.ids()
		} else {
			n.Left, err = p.attribute()
		}
		return n, err
	}
	p.at = from
	n, err := p.attribute()
	if err != nil {
		return nil, err
	}
	return p.compared(n)
}

// compared reads what an attribute is compared with; nothing, where it stands by itself.
func (p *parser) compared(n *Node) (*Node, error) {
	p.blank()
	op := Op(0)
	for _, o := range []Op{Equal, NotEqual, LessEqual, GreatEqual, Less, Greater} {
		if op == 0 && p.take(o.String()) {
			op = o
		}
	}
	if op == 0 {
		from := p.at
		word := p.word()
		for _, o := range []Op{Contains, NotContains, AnyOf, NotAnyOf} {
			if strings.EqualFold(o.String(), word) {
				op = o
			}
		}
		if op == 0 {
			p.at = from
			return n, nil
		}
	}
	right, err := p.operand()
	return &Node{Op: op, Left: n, Right: right}, err
}

func (p *parser) operand() (*Node, error) {
	p.blank()
	if strings.HasPrefix(p.text[p.at:], "@") {
		return p.attribute()
	}
	v, err := p.value(true)
	return &Node{Value: v}, err
}

// word reads letters and low lines.
func (p *parser) word() string {
	p.blank()
	from := p.at
	for p.at < len(p.text) && (p.text[p.at] == '_' || p.text[p.at]|0x20 >= 'a' && p.text[p.at]|0x20 <= 'z') {
		p.at++
	}
	return p.text[from:p.at]
}

// plain are the signs that stand in names as they are, beside letters and digits; all
// others as % and four hexadecimal digits.
const plain = ":./_"

func (p *parser) attribute() (*Node, error) {
	p.blank()
	n := &Node{Of: Local}
	for _, of := range []Of{User, Resource, Device} {
		if prefix := ofNames[of]; len(p.text)-p.at >= len(prefix) && strings.EqualFold(p.text[p.at:p.at+len(prefix)], prefix) {
			n.Of = of
			p.at += len(prefix)
			break
		}
	}
	var name strings.Builder
	for p.at < len(p.text) {
		rest := p.text[p.at:]
		if rest[0] == '%' && len(rest) >= 5 {
			u, err := strconv.ParseUint(rest[1:5], 16, 16)
			if err != nil || u == 0 || u >= 0xd800 && u < 0xe000 {
				return nil, p.wrong("%q is not a character written with %% and four digits", rest[:5])
			}
			name.WriteRune(rune(u))
			p.at += 5
			continue
		}
		r := []rune(rest[:min(len(rest), 4)])[0]
		if !unicode.IsLetter(r) && !unicode.IsDigit(r) && !strings.ContainsRune(plain, r) || r == unicode.ReplacementChar {
			break
		}
		name.WriteRune(r)
		p.at += len(string(r))
	}
	if n.Name = name.String(); n.Name == "" {
		return nil, p.wrong("wanted an attribute, @User.NAME or @Resource.NAME, found %s", p.here())
	}
	return n, nil
}

// ids reads SID(…), or several in braces.
func (p *parser) ids() (*Node, error) {
	v, err := p.value(true)
	if err != nil {
		return nil, err
	}
	n := &Node{Value: v}
	for _, one := range v.each() {
		if one.Kind != account.SIDClaim {
			return nil, p.wrong("wanted SID(…), or several in braces")
		}
	}
	return n, nil
}

func (p *parser) value(lists bool) (*Literal, error) {
	p.blank()
	rest := p.text[p.at:]
	switch {
	case lists && p.take("{"):
		l := &Literal{IsList: true}
		for !p.take("}") {
			if len(l.List) > 0 && !p.take(",") {
				return nil, p.wrong("wanted , or }, found %s", p.here())
			}
			one, err := p.value(false)
			if err != nil {
				return nil, err
			}
			l.List = append(l.List, *one)
		}
		return l, nil
	case strings.HasPrefix(rest, `"`):
		end := strings.IndexByte(rest[1:], '"')
		if end < 0 {
			return nil, p.wrong("the text has no end")
		}
		if s := rest[1 : 1+end]; !strings.ContainsRune(s, unicode.ReplacementChar) && strings.ToValidUTF8(s, "") == s {
			p.at += end + 2
			return &Literal{Value: account.Value{Kind: account.TextClaim, Text: s}}, nil
		}
		return nil, p.wrong("the text isn't UTF-8")
	case len(rest) >= 4 && strings.EqualFold(rest[:4], "SID("):
		end := strings.IndexByte(rest, ')')
		if end < 0 {
			return nil, p.wrong("wanted ) behind an identifier")
		}
		id, err := p.sid(strings.TrimSpace(rest[4:end]))
		if err != nil || id.IsZero() {
			return nil, p.wrong("%q is not an identifier", rest[4:end])
		}
		p.at += end + 1
		return &Literal{Value: account.Value{Kind: account.SIDClaim, ID: id}}, nil
	case strings.HasPrefix(rest, "#"):
		n := 1
		for n < len(rest) && strings.IndexByte("0123456789abcdefABCDEF", rest[n]) >= 0 {
			n++
		}
		b, err := hex.DecodeString(rest[1:n])
		if err != nil {
			return nil, p.wrong("bytes are written as # and pairs of hexadecimal digits")
		}
		p.at += n
		return &Literal{Value: account.Value{Kind: account.OctetClaim, Text: string(b)}}, nil
	}
	return p.number()
}

func (p *parser) number() (*Literal, error) {
	rest := p.text[p.at:]
	l := &Literal{Value: account.Value{Kind: account.IntClaim}, Size: int64Code, Sign: unsigned, Base: decimal}
	n := 0
	if n < len(rest) && (rest[n] == '+' || rest[n] == '-') {
		l.Sign = map[byte]byte{'+': positive, '-': negative}[rest[n]]
		n++
	}
	digits := n
	switch {
	case strings.HasPrefix(rest[n:], "0x"), strings.HasPrefix(rest[n:], "0X"):
		l.Base, digits = hexa, n+2
	case strings.HasPrefix(rest[n:], "0") && len(rest) > n+1 && rest[n+1] >= '0' && rest[n+1] <= '7':
		l.Base, digits = octal, n+1
	}
	n = digits
	for n < len(rest) && strings.IndexByte("0123456789abcdefABCDEF", rest[n]) >= 0 {
		n++
	}
	base := map[byte]int{octal: 8, decimal: 10, hexa: 16}[l.Base]
	sign := ""
	if l.Sign == negative {
		sign = "-"
	}
	v, err := strconv.ParseInt(sign+rest[digits:n], base, 64)
	if err != nil {
		return nil, p.wrong("wanted a value: a number of 64 bits, \"text\", SID(…) or #bytes, found %s", p.here())
	}
	if v == 0 && l.Sign == negative {
		l.Sign = unsigned
	}
	l.Int = v
	p.at += n
	return l, nil
}

// Format writes the text form; sid writes an identifier in SID(…). ok is false where the
// condition holds what the text form can't say.
func (n *Node) Format(sid func(account.ID) string) (text string, ok bool) {
	w := &writer{sid: sid, ok: true}
	w.node(n, loose)
	return w.b.String(), w.ok
}

type writer struct {
	b   strings.Builder
	sid func(account.ID) string
	ok  bool
}

// How tightly operators bind: what binds less than is wanted stands in brackets.
const (
	loose = iota
	tight
	tightest
)

func (w *writer) node(n *Node, wanted int) {
	switch {
	case n.Op == And || n.Op == Or:
		binds := map[Op]int{Or: loose, And: tight}[n.Op]
		if binds < wanted {
			w.b.WriteByte('(')
		}
		w.node(n.Left, binds)
		w.b.WriteString(" " + n.Op.String() + " ")
		w.node(n.Right, binds+1)
		if binds < wanted {
			w.b.WriteByte(')')
		}
	case n.Op == Not:
		w.b.WriteString("!(")
		w.node(n.Left, loose)
		w.b.WriteByte(')')
	case n.Op.one():
		w.b.WriteString(n.Op.String() + " ")
		w.node(n.Left, tightest)
	case n.Op != 0:
		w.node(n.Left, tightest)
		w.b.WriteString(" " + n.Op.String() + " ")
		w.node(n.Right, tightest)
	case n.Of != 0:
		w.b.WriteString(ofNames[n.Of])
		for i, r := range n.Name {
			if r > 0xffff {
				w.ok = false
			}
			escape := !unicode.IsLetter(r) && !unicode.IsDigit(r) && !strings.ContainsRune(plain, r)
			if escape || r == unicode.ReplacementChar || i == 0 && n.Of == Local && !unicode.IsLetter(r) {
				fmt.Fprintf(&w.b, "%%%04x", r)
				if r == 0 || r >= 0xd800 && r < 0xe000 {
					w.ok = false
				}
				continue
			}
			w.b.WriteRune(r)
		}
		for _, name := range opNames { // it would be read as an operator
			w.ok = w.ok && !(n.Of == Local && strings.EqualFold(name, n.Name))
		}
	default:
		w.literal(n.Value)
	}
}

func (w *writer) literal(l *Literal) {
	if l.IsList {
		w.b.WriteByte('{')
		for i := range l.List {
			if i > 0 {
				w.b.WriteString(", ")
			}
			w.literal(&l.List[i])
		}
		w.b.WriteByte('}')
		return
	}
	switch l.Kind {
	case account.IntClaim:
		s := strconv.FormatInt(l.Int, map[byte]int{octal: 8, decimal: 10, hexa: 16}[l.Base])
		prefix := map[byte]string{octal: "0", hexa: "0x"}[l.Base]
		if rest, minus := strings.CutPrefix(s, "-"); minus {
			s = "-" + prefix + rest
		} else if s = prefix + s; l.Sign == positive {
			s = "+" + s
		}
		w.b.WriteString(s)
	case account.TextClaim:
		if strings.ContainsAny(l.Text, "\"\x00") || strings.ContainsRune(l.Text, unicode.ReplacementChar) {
			w.ok = false
		}
		w.b.WriteString(`"` + l.Text + `"`)
	case account.OctetClaim:
		w.b.WriteString("#" + hex.EncodeToString([]byte(l.Text)))
	case account.SIDClaim:
		w.b.WriteString("SID(" + w.sid(l.ID) + ")")
	}
}
