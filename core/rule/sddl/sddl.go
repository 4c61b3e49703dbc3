// Package sddl reads and writes the text form of security descriptors,
// [MS-DTYP] §2.5.1.1:
//
//	O:owner G:group D:flags(entry)(entry)… S:flags(entry)…
//
// without the blanks, each part at most once. An entry is
// (kind;flags;rights;type;inherited type;account), where the account is an
// identifier S-1-… or one of the two-letter names of §2.5.1.1.
//
// Format writes rights as two-letter names where they have them all, else as
// 0x and eight digits, and well-known accounts by their two letters. Behind the account
// of an entry with a condition, or for an attribute, that stands in brackets.
package sddl

import (
	"encoding/hex"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"tarnwold/core/account"
	"tarnwold/core/right"
	"tarnwold/core/rule"
	"tarnwold/core/rule/condition"
)

// Error is something wrong in the text.
type Error struct {
	Column int // in bytes, from 1
	What   string
}

func (e *Error) Error() string { return fmt.Sprintf("column %d: %s", e.Column, e.What) }

type pair[T any] struct {
	text  string
	value T
}

var entryKinds = []pair[rule.Kind]{
	{"A", rule.Allow}, {"D", rule.Deny}, {"AU", rule.Audit}, {"AL", rule.Alarm},
	{"OA", rule.AllowObject}, {"OD", rule.DenyObject}, {"OU", rule.AuditObject}, {"OL", rule.AlarmObject},
	{"ML", rule.Label}, {"SP", rule.Policy},
	{"XA", rule.AllowIf}, {"XD", rule.DenyIf}, {"XU", rule.AuditIf}, {"ZA", rule.AllowObjectIf}, {"RA", rule.Attribute},
}

// carries tells what stands behind the account of an entry of a kind.
func carries(k rule.Kind) (condition, attribute bool) {
	return k == rule.AllowIf || k == rule.DenyIf || k == rule.AuditIf || k == rule.AllowObjectIf, k == rule.Attribute
}

var entryFlags = []pair[rule.Flags]{
	{"OI", rule.ObjectInherit}, {"CI", rule.ContainerInherit}, {"IO", rule.InheritOnly},
	{"NP", rule.NoPropagate}, {"ID", rule.Inherited}, {"SA", rule.OnSuccess}, {"FA", rule.OnFailure},
}

// rightNames are in order of their bits, as they are written; the file names
// at the end are read only.
var rightNames = []pair[right.Set]{
	{"CC", 1 << 0}, {"DC", 1 << 1}, {"LC", 1 << 2}, {"SW", 1 << 3}, {"RP", 1 << 4}, {"WP", 1 << 5},
	{"DT", 1 << 6}, {"LO", 1 << 7}, {"CR", 1 << 8},
	{"SD", right.Delete}, {"RC", right.ReadACL}, {"WD", right.WriteACL}, {"WO", right.WriteOwner},
	{"GA", right.GenericAll}, {"GX", right.GenericExecute}, {"GW", right.GenericWrite}, {"GR", right.GenericRead},
}

var readOnlyNames = []pair[right.Set]{
	{"FA", 0x1f01ff}, {"FR", 0x120089}, {"FW", 0x120116}, {"FX", 0x1200a0},
	{"KA", 0xf003f}, {"KR", 0x20019}, {"KW", 0x20006}, {"KX", 0x20019},
	{"NW", 1}, {"NR", 2}, {"NX", 4},
}

var accounts = []pair[account.ID]{
	{"WD", account.Everyone}, {"AU", account.Authenticated}, {"NU", account.Network}, {"IU", account.Interactive},
	{"AN", account.Anonymous}, {"OW", account.OwnerRights}, {"CO", account.Creator}, {"CG", account.CreatorGroup},
	{"SY", account.System}, {"LS", account.MustID("S-1-5-19")}, {"NS", account.MustID("S-1-5-20")},
	{"SU", account.MustID("S-1-5-6")}, {"PS", account.MustID("S-1-5-10")}, {"ED", account.MustID("S-1-5-9")},
	{"RC", account.MustID("S-1-5-12")}, {"WR", account.MustID("S-1-5-33")}, {"AC", account.MustID("S-1-15-2-1")},
	{"BA", account.MustID("S-1-5-32-544")}, {"BU", account.MustID("S-1-5-32-545")}, {"BG", account.MustID("S-1-5-32-546")},
	{"PU", account.MustID("S-1-5-32-547")}, {"AO", account.MustID("S-1-5-32-548")}, {"SO", account.MustID("S-1-5-32-549")},
	{"PO", account.MustID("S-1-5-32-550")}, {"BO", account.MustID("S-1-5-32-551")}, {"RE", account.MustID("S-1-5-32-552")},
	{"RU", account.MustID("S-1-5-32-554")}, {"RD", account.MustID("S-1-5-32-555")}, {"NO", account.MustID("S-1-5-32-556")},
	{"MU", account.MustID("S-1-5-32-558")}, {"LU", account.MustID("S-1-5-32-559")}, {"IS", account.MustID("S-1-5-32-568")},
	{"CY", account.MustID("S-1-5-32-569")}, {"ER", account.MustID("S-1-5-32-573")}, {"CD", account.MustID("S-1-5-32-574")},
	{"RA", account.MustID("S-1-5-32-575")}, {"ES", account.MustID("S-1-5-32-576")}, {"MS", account.MustID("S-1-5-32-577")},
	{"HA", account.MustID("S-1-5-32-578")}, {"AA", account.MustID("S-1-5-32-579")}, {"RM", account.MustID("S-1-5-32-580")},
	{"LW", account.MustID("S-1-16-4096")}, {"ME", account.MustID("S-1-16-8192")}, {"MP", account.MustID("S-1-16-8448")},
	{"HI", account.MustID("S-1-16-12288")}, {"SI", account.MustID("S-1-16-16384")},
	{"AS", account.MustID("S-1-18-1")}, {"SS", account.MustID("S-1-18-2")}, {"UD", account.MustID("S-1-5-84-0-0-0-0-0")},
}

// domainAccounts stand for a part below a domain the text doesn't say.
var domainAccounts = []pair[uint32]{
	{"RO", 498}, {"LA", 500}, {"LG", 501}, {"DA", 512}, {"DU", 513}, {"DG", 514}, {"DC", 515}, {"DD", 516},
	{"CA", 517}, {"SA", 518}, {"EA", 519}, {"PA", 520}, {"CN", 522}, {"AP", 525}, {"KA", 526}, {"EK", 527}, {"RS", 553},
}

func byText[T any](table []pair[T], text string) (value T, ok bool) {
	for _, p := range table {
		if p.text == text {
			return p.value, true
		}
	}
	return value, false
}

// Parse reads a descriptor. domain is what two-letter names of a domain's own
// accounts (DA, DU, …) are taken below; with the zero ID they are refused.
func Parse(text string, domain account.ID) (*rule.Descriptor, error) {
	p := &parser{text: text, domain: domain}
	d := &rule.Descriptor{Rules: rule.Rules{Absent: true}, Audit: rule.Rules{Absent: true}}
	seen := map[byte]bool{}
	for p.pos < len(text) {
		if len(text)-p.pos < 2 || text[p.pos+1] != ':' {
			return nil, p.wrong("wanted O:, G:, D: or S:, found %s", p.here())
		}
		part := text[p.pos]
		if seen[part] {
			return nil, p.wrong("%c: appears twice", part)
		}
		seen[part] = true
		p.pos += 2
		var err error
		switch part {
		case 'O':
			d.Owner, err = p.sid("the owner")
		case 'G':
			d.Group, err = p.sid("the group")
		case 'D':
			err = p.list(&d.Rules, d, rule.RulesPresent, rule.RulesSealed, rule.RulesFollow, rule.RulesInheritAsked)
		case 'S':
			err = p.list(&d.Audit, d, rule.AuditPresent, rule.AuditSealed, rule.AuditFollow, rule.AuditInheritAsked)
		default:
			p.pos -= 2
			err = p.wrong("wanted O:, G:, D: or S:, found %s", p.here())
		}
		if err != nil {
			return nil, err
		}
	}
	return d, nil
}

type parser struct {
	text   string
	pos    int
	domain account.ID
}

func (p *parser) wrong(format string, args ...any) error {
	return &Error{p.pos + 1, fmt.Sprintf(format, args...)}
}

func (p *parser) here() string {
	rest := p.text[p.pos:]
	if rest == "" {
		return "the end"
	}
	if len(rest) > 12 {
		return strconv.Quote(rest[:12]) + "…"
	}
	return strconv.Quote(rest)
}

// sid reads an identifier up to the end of the part it stands in.
func (p *parser) sid(what string) (account.ID, error) {
	rest := p.text[p.pos:]
	if strings.HasPrefix(rest, "S-") {
		n := 2
		for n < len(rest) && (rest[n] == '-' || rest[n] >= '0' && rest[n] <= '9' || rest[n] == 'x' ||
			rest[n] >= 'a' && rest[n] <= 'f' || rest[n] >= 'A' && rest[n] <= 'F') {
			n++
		}
		// D: or such that follows at once: a hex digit that begins the next part
		if n < len(rest) && rest[n] == ':' {
			n--
		}
		id, err := account.ParseID(rest[:n])
		if err != nil {
			return id, p.wrong("%s: %v", what, err)
		}
		p.pos += n
		return id, nil
	}
	if len(rest) < 2 {
		return account.ID{}, p.wrong("%s: wanted S-1-… or a two-letter account, found %s", what, p.here())
	}
	if id, ok := byText(accounts, rest[:2]); ok {
		p.pos += 2
		return id, nil
	}
	if rid, ok := byText(domainAccounts, rest[:2]); ok {
		if p.domain.IsZero() {
			return account.ID{}, p.wrong("%s: %s stands for an account of a domain, and which domain isn't said; write the whole identifier", what, rest[:2])
		}
		p.pos += 2
		return p.domain.Child(rid), nil
	}
	return account.ID{}, p.wrong("%s: wanted S-1-… or a two-letter account, found %s", what, p.here())
}

func (p *parser) list(rules *rule.Rules, d *rule.Descriptor, present, sealed, follow, asked rule.Control) error {
	d.Control |= present
	rules.Absent = false
flags:
	for p.pos < len(p.text) {
		rest := p.text[p.pos:]
		switch {
		case strings.HasPrefix(rest, "NO_ACCESS_CONTROL"):
			rules.Absent = true
			p.pos += len("NO_ACCESS_CONTROL")
		case strings.HasPrefix(rest, "P"):
			d.Control |= sealed
			p.pos++
		case strings.HasPrefix(rest, "AI"):
			d.Control |= follow
			p.pos += 2
		case strings.HasPrefix(rest, "AR"):
			d.Control |= asked
			p.pos += 2
		default:
			break flags
		}
	}
	for p.pos < len(p.text) && p.text[p.pos] == '(' {
		if rules.Absent {
			return p.wrong("an entry follows NO_ACCESS_CONTROL")
		}
		e, err := p.entry()
		if err != nil {
			return err
		}
		rules.Entries = append(rules.Entries, e)
	}
	if p.pos < len(p.text) && (len(p.text)-p.pos < 2 || p.text[p.pos+1] != ':') {
		return p.wrong("wanted an entry in brackets, found %s", p.here())
	}
	return nil
}

// field reads up to one of the stops, which it leaves.
func (p *parser) field(stop byte) (string, error) {
	i := strings.IndexAny(p.text[p.pos:], ";()")
	if i < 0 || p.text[p.pos+i] != stop {
		if i >= 0 {
			p.pos += i
		} else {
			p.pos = len(p.text)
		}
		return "", p.wrong("wanted %q in an entry (kind;flags;rights;type;inherited type;account), found %s", stop, p.here())
	}
	return p.text[p.pos : p.pos+i], nil
}

func (p *parser) entry() (rule.Entry, error) {
	var e rule.Entry
	p.pos++ // the bracket
	kind, err := p.field(';')
	if err != nil {
		return e, err
	}
	var ok bool
	if e.Kind, ok = byText(entryKinds, kind); !ok {
		return e, p.wrong("wanted an entry kind (A, D, AU, AL, OA, OD, OU, OL, ML, SP, XA, XD, XU, ZA, RA), found %q", kind)
	}
	p.pos += len(kind) + 1
	flags, err := p.field(';')
	if err != nil {
		return e, err
	}
	for i := 0; i < len(flags); i += 2 {
		f, ok := byText(entryFlags, flags[i:min(i+2, len(flags))])
		if !ok {
			p.pos += i
			return e, p.wrong("wanted entry flags (OI, CI, NP, IO, ID, SA, FA), found %q", flags[i:])
		}
		e.Flags |= f
	}
	p.pos += len(flags) + 1
	rights, err := p.field(';')
	if err != nil {
		return e, err
	}
	if e.Rights, err = p.rights(rights); err != nil {
		return e, err
	}
	p.pos += len(rights) + 1
	var guids [2]string
	for i := range guids {
		text, err := p.field(';')
		if err != nil {
			return e, err
		}
		if text != "" {
			if !e.Kind.HasObject() {
				return e, p.wrong("an entry of kind %s has no object type", kind)
			}
			if guids[i], err = parseGUID(text); err != nil {
				return e, p.wrong("%v", err)
			}
		}
		p.pos += len(text) + 1
	}
	if e.Kind.HasObject() {
		head := [4]byte{}
		for i, g := range guids {
			if g != "" {
				head[0] |= 1 << i
			}
		}
		e.Extra.Object = string(head[:]) + guids[0] + guids[1]
	}
	if e.Who, err = p.sid("the entry's account"); err != nil {
		return e, err
	}
	if asks, attribute := carries(e.Kind); asks || attribute {
		if e.Extra.Tail, err = p.tail(attribute); err != nil {
			return e, err
		}
	}
	if p.pos >= len(p.text) || p.text[p.pos] != ')' {
		return e, p.wrong("wanted ) after the entry's account, found %s", p.here())
	}
	p.pos++
	return e, nil
}

// tail reads what stands in brackets behind an entry's account.
func (p *parser) tail(attribute bool) (string, error) {
	if !strings.HasPrefix(p.text[p.pos:], ";(") {
		return "", p.wrong("wanted ; and a condition or an attribute in brackets, found %s", p.here())
	}
	p.pos += 2
	from, deep, quoted := p.pos, 1, false
	for ; p.pos < len(p.text) && deep > 0; p.pos++ {
		switch c := p.text[p.pos]; {
		case c == '"':
			quoted = !quoted
		case quoted:
		case c == '(':
			deep++
		case c == ')':
			deep--
		}
	}
	if deep > 0 {
		return "", p.wrong("the bracket of a condition isn't closed")
	}
	text := p.text[from : p.pos-1]
	sid := func(word string) (account.ID, error) {
		in := &parser{text: word, domain: p.domain}
		id, err := in.sid("an identifier")
		if err == nil && in.pos < len(word) {
			err = in.wrong("something follows the identifier")
		}
		return id, err
	}
	if attribute {
		b, err := condition.ParseAttribute(text, sid)
		if err != nil {
			return "", &Error{from + 1, err.Error()}
		}
		return string(b), nil
	}
	n, err := condition.Parse(text, sid)
	if err != nil {
		return "", &Error{from + 1, err.Error()}
	}
	return string(n.Encode()), nil
}

func (p *parser) rights(text string) (right.Set, error) {
	if text == "" {
		return 0, nil
	}
	if text[0] >= '0' && text[0] <= '9' {
		n, err := strconv.ParseUint(text, 0, 32)
		if err != nil {
			return 0, p.wrong("%q is not a number of 32 bits", text)
		}
		return right.Set(n), nil
	}
	var s right.Set
	for i := 0; i < len(text); i += 2 {
		word := text[i:min(i+2, len(text))]
		r, ok := byText(rightNames, word)
		if !ok {
			r, ok = byText(readOnlyNames, word)
		}
		if !ok {
			p.pos += i
			return 0, p.wrong("wanted two-letter rights or a number, found %q", text[i:])
		}
		s |= r
	}
	return s, nil
}

// parseGUID reads 8-4-4-4-12 hexadecimal digits into the 16 bytes of
// [MS-DTYP] §2.3.4.2.
func parseGUID(text string) (string, error) {
	digits := strings.Split(text, "-")
	raw, err := hex.DecodeString(strings.Join(digits, ""))
	if err != nil || !slices.Equal(lengths(digits), []int{8, 4, 4, 4, 12}) {
		return "", fmt.Errorf("%q is not an object type of the form 01234567-89ab-cdef-0123-456789abcdef", text)
	}
	swapGUID((*[16]byte)(raw))
	return string(raw), nil
}

func lengths(words []string) (out []int) {
	for _, w := range words {
		out = append(out, len(w))
	}
	return out
}

func swapGUID(b *[16]byte) {
	b[0], b[1], b[2], b[3] = b[3], b[2], b[1], b[0]
	b[4], b[5] = b[5], b[4]
	b[6], b[7] = b[7], b[6]
}

func formatGUID(s string) string {
	var b [16]byte
	copy(b[:], s)
	swapGUID(&b)
	return fmt.Sprintf("%x-%x-%x-%x-%x", b[:4], b[4:6], b[6:8], b[8:10], b[10:])
}

// Format writes a descriptor. The error names an entry that has no text form.
func Format(d *rule.Descriptor) (string, error) {
	var b strings.Builder
	if !d.Owner.IsZero() {
		b.WriteString("O:" + formatID(d.Owner))
	}
	if !d.Group.IsZero() {
		b.WriteString("G:" + formatID(d.Group))
	}
	for _, l := range []struct {
		name                           string
		rules                          *rule.Rules
		present, sealed, asked, follow rule.Control
	}{
		{"D:", &d.Rules, rule.RulesPresent, rule.RulesSealed, rule.RulesInheritAsked, rule.RulesFollow},
		{"S:", &d.Audit, rule.AuditPresent, rule.AuditSealed, rule.AuditInheritAsked, rule.AuditFollow},
	} {
		flags := d.Control & (l.sealed | l.asked | l.follow)
		if l.rules.Absent && d.Control&l.present == 0 && flags == 0 {
			continue
		}
		b.WriteString(l.name)
		if flags&l.sealed != 0 {
			b.WriteString("P")
		}
		if flags&l.asked != 0 {
			b.WriteString("AR")
		}
		if flags&l.follow != 0 {
			b.WriteString("AI")
		}
		if l.rules.Absent {
			b.WriteString("NO_ACCESS_CONTROL")
		}
		for i, e := range l.rules.Entries {
			if err := formatEntry(&b, e); err != nil {
				return "", fmt.Errorf("%s entry %d: %w", l.name, i+1, err)
			}
		}
	}
	return b.String(), nil
}

func formatEntry(b *strings.Builder, e rule.Entry) error {
	kind := ""
	for _, k := range entryKinds {
		if k.value == e.Kind {
			kind = k.text
		}
	}
	tail, ok := "", e.Extra.Tail == ""
	switch asks, attribute := carries(e.Kind); {
	case asks:
		n, err := condition.Decode([]byte(e.Extra.Tail))
		if ok = err == nil; ok {
			tail, ok = n.Format(formatID)
		}
		if ok { // the text form has every number as one of 64 bits
			again, err := condition.Parse(tail, func(s string) (account.ID, error) { return (&parser{text: s}).sid("") })
			ok = err == nil && string(again.Encode()) == e.Extra.Tail
		}
	case attribute:
		tail, ok = condition.FormatAttribute([]byte(e.Extra.Tail), formatID)
	}
	if kind == "" || !ok {
		return fmt.Errorf("an entry of kind %s with what it carries has no text form", e.Kind)
	}
	b.WriteString("(" + kind + ";")
	for _, f := range entryFlags {
		if e.Flags&f.value != 0 {
			b.WriteString(f.text)
		}
	}
	b.WriteString(";" + formatRights(e.Rights) + ";")
	types := e.Extra.Object
	flags := byte(0)
	if len(types) >= 4 {
		flags, types = types[0], types[4:]
	}
	for i := range 2 {
		if flags>>i&1 != 0 && len(types) >= 16 {
			b.WriteString(formatGUID(types[:16]))
			types = types[16:]
		}
		b.WriteString(";")
	}
	b.WriteString(formatID(e.Who))
	if tail != "" {
		b.WriteString(";(" + tail + ")")
	}
	b.WriteByte(')')
	return nil
}

func formatRights(s right.Set) string {
	var b strings.Builder
	rest := s
	for _, n := range rightNames {
		if rest&n.value != 0 {
			b.WriteString(n.text)
			rest &^= n.value
		}
	}
	if rest != 0 || s == 0 {
		return fmt.Sprintf("0x%08x", uint32(s))
	}
	return b.String()
}

func formatID(id account.ID) string {
	for _, p := range accounts {
		if p.value == id {
			return p.text
		}
	}
	return id.String()
}
