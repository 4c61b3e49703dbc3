package condition

import (
	"encoding/hex"
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"tarnwold/core/account"
	"tarnwold/internal/proptest"
)

// world is who asks, and of what.
type world struct {
	in       map[account.ID]bool
	user     map[string]account.Claim
	resource map[string]account.Claim
}

func (w *world) Has(id account.ID) bool { return w.in[id] }
func (w *world) Claim(name string) (account.Claim, bool) {
	c, ok := w.user[strings.ToLower(name)]
	return c, ok
}

var ids = []account.ID{account.Everyone, account.NewID(5, 32, 544), account.NewID(5, 21, 1, 2, 3, 1000)}

func sid(s string) (account.ID, error) { return account.ParseID(s) }

func anyValue(t *rapid.T, kinds ...account.ClaimKind) account.Value {
	v := account.Value{Kind: rapid.SampledFrom(kinds).Draw(t, "kind")}
	switch v.Kind {
	case account.IntClaim:
		v.Int = rapid.SampledFrom([]int64{-1 << 63, -3, 0, 1, 2, 1<<63 - 1}).Draw(t, "number")
	case account.BoolClaim:
		v.Int = int64(rapid.IntRange(0, 1).Draw(t, "yes"))
	case account.SIDClaim:
		v.ID = rapid.SampledFrom(ids).Draw(t, "id")
	case account.OctetClaim:
		v.Text = rapid.SampledFrom([]string{"", "\x01", "\x01\xff"}).Draw(t, "bytes")
	default:
		v.Text = rapid.SampledFrom([]string{"", "a", "A", "b", "ä", "Ä"}).Draw(t, "text")
	}
	return v
}

var written = []account.ClaimKind{account.IntClaim, account.TextClaim, account.SIDClaim, account.OctetClaim}

func anyWorld(t *rapid.T) *world {
	w := &world{in: map[account.ID]bool{}, user: map[string]account.Claim{}, resource: map[string]account.Claim{}}
	for _, id := range ids {
		w.in[id] = rapid.Bool().Draw(t, "in")
	}
	for _, m := range []map[string]account.Claim{w.user, w.resource} {
		for _, name := range []string{"a", "b"} {
			if rapid.IntRange(0, 3).Draw(t, "there") == 0 {
				continue
			}
			c := account.Claim{CaseSensitive: rapid.IntRange(0, 3).Draw(t, "case") == 0}
			kind := rapid.SampledFrom(append(written, account.BoolClaim)).Draw(t, "of")
			for range rapid.IntRange(0, 3).Draw(t, "values") {
				if rapid.IntRange(0, 9).Draw(t, "mixed") == 0 {
					kind = rapid.SampledFrom(written).Draw(t, "other")
				}
				c.Values = append(c.Values, anyValue(t, kind))
			}
			m[name] = c
		}
	}
	return w
}

func anyLiteral(t *rapid.T, kinds ...account.ClaimKind) *Literal {
	one := func() Literal {
		l := Literal{Value: anyValue(t, kinds...)}
		if l.Kind == account.IntClaim {
			l.Size, l.Sign, l.Base = int64Code, unsigned, byte(rapid.IntRange(octal, hexa).Draw(t, "base"))
			if l.Int < 0 {
				l.Sign = negative
			} else if rapid.Bool().Draw(t, "plus") {
				l.Sign = positive
			}
		}
		return l
	}
	if rapid.Bool().Draw(t, "single") {
		l := one()
		return &l
	}
	l := &Literal{IsList: true}
	for range rapid.IntRange(0, 3).Draw(t, "many") {
		l.List = append(l.List, one())
	}
	return l
}

func anyAttribute(t *rapid.T) *Node {
	of := rapid.SampledFrom([]Of{User, User, Resource, Resource, Device, Local}).Draw(t, "whose")
	return &Node{Of: of, Name: rapid.SampledFrom([]string{"a", "A", "b", "c"}).Draw(t, "name")}
}

func anyNode(t *rapid.T, deep int) *Node {
	if deep > 0 && rapid.IntRange(0, 2).Draw(t, "joined") > 0 {
		n := &Node{Op: rapid.SampledFrom([]Op{And, Or, Not}).Draw(t, "op"), Left: anyNode(t, deep-1)}
		if n.Op != Not {
			n.Right = anyNode(t, deep-1)
		}
		return n
	}
	switch rapid.IntRange(0, 3).Draw(t, "sort") {
	case 0:
		op := rapid.SampledFrom([]Op{MemberOf, MemberOfAny, NotMemberOf, NotMemberOfAny, DeviceMemberOf, DeviceMemberOfAny, NotDeviceMemberOf, NotDeviceMemberOfAny}).Draw(t, "member")
		return &Node{Op: op, Left: &Node{Value: anyLiteral(t, account.SIDClaim)}}
	case 1:
		return &Node{Op: rapid.SampledFrom([]Op{Exists, NotExists}).Draw(t, "exists"), Left: anyAttribute(t)}
	case 2:
		return anyAttribute(t)
	}
	n := &Node{Op: rapid.SampledFrom([]Op{Equal, NotEqual, Less, LessEqual, Greater, GreatEqual, Contains, NotContains, AnyOf, NotAnyOf}).Draw(t, "compares"), Left: anyAttribute(t)}
	if rapid.IntRange(0, 3).Draw(t, "with an attribute") == 0 {
		if n.Right = anyAttribute(t); n.Right.Of != Local {
			return n
		}
	}
	n.Right = &Node{Value: anyLiteral(t, rapid.SampledFrom(written).Draw(t, "value"))}
	return n
}

// bySection evaluates by the words of [MS-DTYP] §2.5.3.1.5, as plainly as can be: "yes",
// "no" or "unknown".
func bySection(n *Node, w *world) string {
	yes := func(b bool) string { return map[bool]string{true: "yes", false: "no"}[b] }
	values := func(n *Node) (vals []string, kind string, exact, known bool) {
		var list []account.Value
		switch {
		case n.Value != nil && n.Value.IsList:
			for _, l := range n.Value.List {
				list = append(list, l.Value)
			}
		case n.Value != nil:
			list = []account.Value{n.Value.Value}
		case n.Of == User || n.Of == Resource:
			c, ok := map[Of]map[string]account.Claim{User: w.user, Resource: w.resource}[n.Of][strings.ToLower(n.Name)]
			if !ok || len(c.Values) == 0 {
				return nil, "", false, false
			}
			list, exact = c.Values, c.CaseSensitive
		default:
			return nil, "", false, false
		}
		for i, v := range list {
			k := string(v.Kind)
			if v.Kind == account.BoolClaim {
				k = string(account.IntClaim)
			}
			if i > 0 && k != kind {
				kind = "mixed"
			} else {
				kind = k
			}
			vals = append(vals, fmt.Sprintf("%s\x00%d\x00%s", v.Text, v.Int, v.ID))
		}
		return vals, kind, exact, true
	}
	has := func(n *Node) bool {
		return (n.Of == User && has(w.user, n.Name)) || (n.Of == Resource && has(w.resource, n.Name))
	}
	switch n.Op {
	case And:
		a, b := bySection(n.Left, w), bySection(n.Right, w)
		switch {
		case a == "no" || b == "no":
			return "no"
		case a == "yes" && b == "yes":
			return "yes"
		}
		return "unknown"
	case Or:
		a, b := bySection(n.Left, w), bySection(n.Right, w)
		switch {
		case a == "yes" || b == "yes":
			return "yes"
		case a == "no" && b == "no":
			return "no"
		}
		return "unknown"
	case Not:
		return map[string]string{"yes": "no", "no": "yes", "unknown": "unknown"}[bySection(n.Left, w)]
	case Exists, NotExists:
		if n.Left.Of == Device || n.Left.Of == Local {
			return "unknown"
		}
		return yes(has(n.Left) == (n.Op == Exists))
	case MemberOf, MemberOfAny, NotMemberOf, NotMemberOfAny:
		all, any := true, false
		list := n.Left.Value.List
		if !n.Left.Value.IsList {
			list = []Literal{*n.Left.Value}
		}
		for _, l := range list {
			all, any = all && w.in[l.ID], any || w.in[l.ID]
		}
		switch n.Op {
		case MemberOf:
			return yes(all)
		case NotMemberOf:
			return yes(!all)
		case MemberOfAny:
			return yes(any)
		}
		return yes(!any)
	case DeviceMemberOf, DeviceMemberOfAny, NotDeviceMemberOf, NotDeviceMemberOfAny:
		return "unknown"
	case 0:
		vals, kind, _, known := values(n)
		if !known || len(vals) != 1 || kind != string(account.IntClaim) && kind != string(account.TextClaim) {
			return "unknown"
		}
		return yes(!strings.HasPrefix(vals[0], "\x000\x00"))
	}
	a, ka, ea, okA := values(n.Left)
	b, kb, eb, okB := values(n.Right)
	if !okA || !okB || ka == "mixed" || kb == "mixed" || ka != kb && len(b) > 0 {
		return "unknown"
	}
	fold := func(list []string) map[string]bool {
		out := map[string]bool{}
		for _, s := range list {
			if ka == string(account.TextClaim) && !ea && !eb {
				s = strings.ToUpper(s)
			}
			out[s] = true
		}
		return out
	}
	sa, sb := fold(a), fold(b)
	within := func(in, of map[string]bool) bool {
		for s := range in {
			if !of[s] {
				return false
			}
		}
		return true
	}
	common := false
	for s := range sb {
		common = common || sa[s]
	}
	switch n.Op {
	case Equal:
		return yes(within(sa, sb) && within(sb, sa))
	case NotEqual:
		return yes(!(within(sa, sb) && within(sb, sa)))
	case Contains:
		return yes(within(sb, sa))
	case NotContains:
		return yes(!within(sb, sa))
	case AnyOf:
		return yes(common)
	case NotAnyOf:
		return yes(!common)
	}
	if len(a) != 1 || len(b) != 1 {
		return "unknown"
	}
	var x, y string
	for s := range sa {
		x = s
	}
	for s := range sb {
		y = s
	}
	var less bool
	if ka == string(account.IntClaim) {
		var i, j int64
		fmt.Sscan(strings.Split(x, "\x00")[1], &i)
		fmt.Sscan(strings.Split(y, "\x00")[1], &j)
		less = i < j
	} else if ka == string(account.SIDClaim) {
		if x != y {
			return "unknown"
		}
	} else {
		less = strings.Split(x, "\x00")[0] < strings.Split(y, "\x00")[0]
	}
	switch n.Op {
	case Less:
		return yes(less)
	case LessEqual:
		return yes(less || x == y)
	case Greater:
		return yes(!less && x != y)
	}
	return yes(!less)
}

func has(m map[string]account.Claim, name string) bool { _, ok := m[strings.ToLower(name)]; return ok }

// TestConditionsByTheStandardsWords: any condition on anybody comes to what the standard's
// words say, and is the same when it was written and read again in either form.
func TestConditionsByTheStandardsWords(t *testing.T) {
	came := map[Truth]int{}
	ops := map[Op]map[Truth]bool{}
	rapid.Check(t, func(t *rapid.T) {
		w, n := anyWorld(t), anyNode(t, 3)
		test := &Test{Cond: n, resource: w.resource}
		got := test.Holds(w)
		require.Equal(t, bySection(n, w), map[Truth]string{True: "yes", False: "no", Unknown: "unknown"}[got])
		require.Equal(t, got == True, test.Counts(w, false))
		require.Equal(t, got != False, test.Counts(w, true))
		came[got]++
		if ops[n.Op] == nil {
			ops[n.Op] = map[Truth]bool{}
		}
		ops[n.Op][got] = true
		again, err := Decode(n.Encode())
		require.NoError(t, err)
		require.Equal(t, n, again)
		text, ok := n.Format(account.ID.String)
		require.True(t, ok)
		again, err = Parse(text, sid)
		require.NoError(t, err, text)
		require.Equal(t, n, again, text)
		if got == Unknown {
			require.NotPanics(t, func() { test.Missing(w) })
		}
	})
	for _, truth := range []Truth{True, False, Unknown} {
		proptest.Reached(t, came[truth], 20, fmt.Sprint(truth))
	}
}

// TestTheStandardsExamples are those of [MS-DTYP] §2.4.4.17.9 and §2.5.1.2.
func TestTheStandardsExamples(t *testing.T) {
	b, err := hex.DecodeString("61727478f80a000000540069007400" + "6c0065001004000000560050008" + "0000000")
	require.NoError(t, err)
	n, err := Decode(b)
	require.NoError(t, err)
	text, ok := n.Format(account.ID.String)
	require.True(t, ok)
	require.Equal(t, `Title == "VP"`, text)
	require.Equal(t, b, n.Encode())

	n, err = Parse(`(@User.Title=="PM" && (@User.Division=="Finance" || @User.Division ==" Sales"))`, sid)
	require.NoError(t, err)
	claims := func(title, division string) *world {
		return &world{user: map[string]account.Claim{"title": {Values: []account.Value{{Kind: account.TextClaim, Text: title}}}, "division": {Values: []account.Value{{Kind: account.TextClaim, Text: division}}}}}
	}
	test := &Test{Cond: n}
	require.Equal(t, True, test.Holds(claims("pm", "finance")))
	require.Equal(t, False, test.Holds(claims("PM", "Board")))
	require.Equal(t, Unknown, test.Holds(&world{}))
	require.Equal(t, []string{"@User.Title", "@User.Division"}, test.Missing(&world{}))

	n, err = Parse(`(Member_of {SID(S-1-5-32-551), SID(S-1-1-0)} && @Device.Bitlocker)`, sid)
	require.NoError(t, err)
	test = &Test{Cond: n}
	require.Equal(t, Unknown, test.Holds(&world{in: map[account.ID]bool{account.Everyone: true, account.NewID(5, 32, 551): true}}))
	require.Equal(t, False, test.Holds(&world{in: map[account.ID]bool{account.Everyone: true}}))
	require.Equal(t, []string{"@Device.Bitlocker"}, test.Missing(&world{}))
	require.Len(t, n.IDs(), 2)
}

func TestAnItemsAttributes(t *testing.T) {
	for _, text := range []string{`"Secrecy",TU,0x0,3`, `"Project",TS,0x2,"Windows","SQL"`, `"Who",TD,0x0,SID(S-1-1-0)`, `"Open",TB,0x0,1`, `"Raw",TX,0x0,#01ff`, `"N",TI,0x0,-5,7`} {
		b, err := ParseAttribute(text, sid)
		require.NoError(t, err, text)
		again, ok := FormatAttribute(b, account.ID.String)
		require.True(t, ok, text)
		require.Equal(t, text, again)
	}
	for _, bad := range []string{``, `"x"`, `"x",TS`, `"x",TZ,0,1`, `"x",TI,0,"text"`, `"x",TU,0,-1`, `"x",TB,0,2`, `"x",TI,-1,1`, `"x",TI,0,1 2`, `x,TI,0,1`} {
		_, err := ParseAttribute(bad, sid)
		require.Error(t, err, bad)
	}
	b, err := ParseAttribute(`"Secrecy",TI,0x0,3`, sid)
	require.NoError(t, err)
	n, err := Parse(`@Resource.secrecy >= 3`, sid)
	require.NoError(t, err)
	test := NewTest(string(n.Encode()), []string{string(b)})
	require.Equal(t, True, test.Holds(&world{}))
	require.Same(t, test, NewTest(string(n.Encode()), []string{string(b)}))
	require.NotSame(t, test, NewTest(string(n.Encode()), nil))
	require.Equal(t, Unknown, NewTest(string(n.Encode()), nil).Holds(&world{}))
	require.Nil(t, NewTest("artx", nil))
	off, err := ParseAttribute(`"Secrecy",TI,0x10,3`, sid) // disabled
	require.NoError(t, err)
	require.Equal(t, Unknown, NewTest(string(n.Encode()), []string{string(off)}).Holds(&world{}))
}

// TestCaseCountsWhereEitherSideSaysSo: of two attributes one is enough.
func TestCaseCountsWhereEitherSideSaysSo(t *testing.T) {
	n, err := Parse("@User.a == @Resource.a", sid)
	require.NoError(t, err)
	text := func(s string, exact bool) account.Claim {
		return account.Claim{Values: []account.Value{{Kind: account.TextClaim, Text: s}}, CaseSensitive: exact}
	}
	for _, exact := range [][2]bool{{false, false}, {true, false}, {false, true}} {
		w := &world{user: map[string]account.Claim{"a": text("x", exact[0])}}
		test := &Test{Cond: n, resource: map[string]account.Claim{"a": text("X", exact[1])}}
		require.Equal(t, truth(exact == [2]bool{}), test.Holds(w), exact)
	}
}

func TestWrongConditionsSayWhere(t *testing.T) {
	for text, want := range map[string]string{
		"":                                   "column 1 of the condition: wanted an attribute",
		"@User.a ==":                         "wanted a value",
		"@User.a == 1 @User.b":               "wanted && or ||, or the end",
		"(@User.a":                           "wanted ), found the end",
		"Member_of 3":                        "wanted SID(…)",
		"Member_of {SID(x)}":                 `"x" is not an identifier`,
		`@User.a == "x`:                      "the text has no end",
		"@User.a == #abc":                    "pairs of hexadecimal digits",
		"@User.%00 == 1":                     "is not a character written with % and four digits",
		"@User.a == 99999999999999999999":    "a number of 64 bits",
		strings.Repeat("(", 300) + "@User.a": "more than 200 brackets",
	} {
		n, err := Parse(text, sid)
		require.ErrorContains(t, err, want, "%q %v", text, n)
	}
	for _, b := range []string{"", "art", "artx", "artx\x80", "artx\x01", "artx\x10\xff\xff\xff\xff", "artx\x00\x00\x00\x00", "artx\xa2", "artx\x51\x01\x00\x00\x00\x00",
		"artx\xf8\x02\x00\x00\x00a\x00\x04\xff\xff\xff\xff\xff\xff\xff\xff\x01\x02\x80"} {
		_, err := Decode([]byte(b))
		require.Error(t, err, "%q", b)
	}
}

func FuzzDecode(f *testing.F) {
	n, err := Parse(`Member_of_Any {SID(S-1-1-0)} && @User.a Any_of {1, "x"} || !(@Resource.b != #00ff)`, sid)
	require.NoError(f, err)
	f.Add(n.Encode())
	f.Fuzz(func(t *testing.T, b []byte) {
		n, err := Decode(b)
		if err != nil {
			return
		}
		test := &Test{Cond: n}
		test.Holds(&world{})
		test.Missing(&world{})
		out := n.Encode()
		again, err := Decode(out)
		require.NoError(t, err)
		require.Equal(t, n, again)
		if text, ok := n.Format(account.ID.String); ok && len(b) < 1<<10 {
			twice, err := Parse(text, sid)
			if err != nil {
				require.ErrorContains(t, err, "brackets", text)
				return
			}
			more, _ := twice.Format(account.ID.String)
			require.Equal(t, text, more)
		}
	})
}

func FuzzParse(f *testing.F) {
	f.Add(`(@User.Title=="PM" && (@User.Division=="Finance" || Not_Exists @Resource.x))`)
	f.Fuzz(func(t *testing.T, text string) {
		n, err := Parse(text, sid)
		if err != nil {
			return
		}
		again, err := Decode(n.Encode())
		require.NoError(t, err, text)
		require.Equal(t, n, again)
	})
}

func FuzzAttribute(f *testing.F) {
	b, err := ParseAttribute(`"Project",TS,0x2,"Windows","SQL"`, sid)
	require.NoError(f, err)
	f.Add(b)
	f.Fuzz(func(t *testing.T, b []byte) {
		_, _, _ = Attribute(b)
		_, _ = FormatAttribute(b, account.ID.String)
	})
}
