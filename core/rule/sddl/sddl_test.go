package sddl_test

import (
	"encoding/csv"
	"os"
	"path"
	"slices"
	"testing"

	"github.com/stretchr/testify/require"

	"tarnwold/core/account"
	"tarnwold/core/right"
	"tarnwold/core/rule"
	"tarnwold/core/rule/sddl"
	"tarnwold/core/rule/secdesc"
)

func treeRows(t testing.TB) [][]string {
	f, err := os.Open("../../../internal/format/testdata/stagedoor/tree.csv")
	require.NoError(t, err)
	defer f.Close()
	rows, err := csv.NewReader(f).ReadAll()
	require.NoError(t, err)
	return rows[1:]
}

func TestRealDescriptorsRoundTrip(t *testing.T) {
	rows := treeRows(t)
	require.Len(t, rows, 1200)
	for _, r := range rows {
		d, err := sddl.Parse(r[2], account.ID{})
		require.NoError(t, err, r[0])
		b, err := secdesc.Encode(d)
		require.NoError(t, err)
		back, err := secdesc.Decode(b)
		require.NoError(t, err)
		require.True(t, d.Equal(back), r[0])
		text, err := sddl.Format(back)
		require.NoError(t, err)
		require.Equal(t, r[2], text)
	}
}

// TestRealInheritance: the server itself worked out every inherited entry of
// the sample, at the moment an item was made by warden. So each item's
// inherited entries are those its folder hands down, to its owner or, where
// the owner changed afterwards, to warden. No other is stale.
func TestRealInheritance(t *testing.T) {
	warden := account.MustID("S-1-5-21-224712112-2151694927-2546411398-1000")
	type item struct {
		d      *rule.Descriptor
		folder bool
	}
	tree := map[string]item{}
	for _, r := range treeRows(t) {
		d, err := sddl.Parse(r[2], account.ID{})
		require.NoError(t, err)
		tree[r[0]] = item{d, r[1] == "folder"}
	}
	fresh, stale := 0, 0
	for p, it := range tree {
		if p == "" {
			continue
		}
		up := path.Dir(p)
		if up == "." {
			up = ""
		}
		parent := tree[up].d
		if !it.d.StaleUnder(parent, it.folder) {
			fresh++
			continue
		}
		require.NotEqual(t, warden, it.d.Owner, p)
		as := it.d.OwnedBy(warden)
		require.False(t, as.StaleUnder(parent, it.folder), "%s is stale and its owner doesn't explain it", p)
		stale++
	}
	require.Equal(t, 172, stale)
	require.Equal(t, 1027, fresh)
}

func TestEveryField(t *testing.T) {
	for _, text := range []string{
		"O:BAG:SYD:",
		"D:NO_ACCESS_CONTROL",
		"O:SYD:PARAI(A;OICIIONPID;CCDCLCSWRPWPDTLOCRSDRCWDWOGAGXGWGR;;;WD)",
		"D:(OA;;RPWP;bf967a86-0de6-11d0-a285-00aa003049e2;;AU)(OD;;WP;;bf967aba-0de6-11d0-a285-00aa003049e2;S-1-5-21-1-2-3-4)(OA;;WP;;;WD)",
		"S:PAI(AU;OICISAFA;0x001f01ff;;;WD)(ML;;CC;;;HI)",
		"O:S-1-5-21-1-2-3-513D:(D;;SD;;;CO)S:(AU;FA;SD;;;AN)",
		"",
	} {
		d, err := sddl.Parse(text, account.ID{})
		require.NoError(t, err, text)
		b, err := secdesc.Encode(d)
		require.NoError(t, err)
		back, err := secdesc.Decode(b)
		require.NoError(t, err)
		got, err := sddl.Format(back)
		require.NoError(t, err)
		require.Equal(t, text, got)
	}
	d, err := sddl.Parse("D:(A;;FA;;;DA)(A;;0x1200a9;;;DU)", account.NewID(5, 21, 1, 2, 3))
	require.NoError(t, err)
	require.Equal(t, account.NewID(5, 21, 1, 2, 3, 512), d.Rules.Entries[0].Who)
	require.Equal(t, right.All, d.Rules.Entries[0].Rights)
}

func TestConditionsInText(t *testing.T) {
	for _, text := range []string{
		`D:(XA;OICI;0x001200a9;;;WD;(@User.Title == "P) (M" && !(Member_of {SID(BA), SID(S-1-5-21-1-2-3-4)})))`,
		`D:(XD;;CC;;;AU;(@Resource.Secrecy > 0x2 || Exists @User.x))`,
		`D:(ZA;;RP;01234567-89ab-cdef-0123-456789abcdef;;WD;(@User.a Any_of {1, "x"}))S:(XU;SA;WD;;;WD;(@User.a))(RA;;0x00000000;;;WD;("Secrecy",TU,0x0,3))`,
	} {
		d, err := sddl.Parse(text, account.ID{})
		require.NoError(t, err, text)
		got, err := sddl.Format(d)
		require.NoError(t, err, text)
		require.Equal(t, text, got)
	}
	d := &rule.Descriptor{Rules: rule.Rules{Entries: []rule.Entry{{Kind: rule.AllowIf, Who: account.Everyone, Extra: rule.Extra{Tail: "artx"}}}}}
	_, err := sddl.Format(d)
	require.ErrorContains(t, err, "has no text form")
}

func TestWrongTextSaysWhereAndWhat(t *testing.T) {
	for text, want := range map[string]string{
		"X:SY":                      "column 1: wanted O:, G:, D: or S:, found \"X:SY\"",
		"O:SYO:SY":                  "column 5: O: appears twice",
		"O:XX":                      "column 3: the owner: wanted S-1-… or a two-letter account, found \"XX\"",
		"D:(A;;FA;;;DA)":            "which domain isn't said",
		"D:(Q;;FA;;;WD)":            "column 4: wanted an entry kind",
		"D:(A;QQ;FA;;;WD)":          "column 6: wanted entry flags",
		"D:(A;;QQ;;;WD)":            "column 7: wanted two-letter rights or a number",
		"D:(A;;0x1ffffffff;;;WD)":   "is not a number of 32 bits",
		"D:(A;;FA;;WD)":             "wanted ';' in an entry",
		"D:(A;;FA;;;WD":             "wanted ) after the entry's account",
		"D:(A;;FA;x;;WD)":           "an entry of kind A has no object type",
		"D:(OA;;FA;x;;WD)":          "is not an object type of the form",
		"D:(XA;;FA;;;WD;(a ==))":    "column 17: column 5 of the condition: wanted a value",
		"D:(XA;;FA;;;WD)":           "wanted ; and a condition or an attribute in brackets",
		"D:(XA;;FA;;;WD;(a":         "the bracket of a condition isn't closed",
		"S:(RA;;;;;WD;(\"x\",TS))":  "wanted a comma, found the end",
		"D:NO_ACCESS_CONTROL(A;;FA": "an entry follows NO_ACCESS_CONTROL",
		"D:Q":                       "column 3: wanted an entry in brackets",
	} {
		_, err := sddl.Parse(text, account.ID{})
		require.ErrorContains(t, err, want, text)
		var se *sddl.Error
		require.ErrorAs(t, err, &se)
	}
}

func FuzzParse(f *testing.F) {
	for i, r := range treeRows(f) {
		if i%40 == 0 {
			f.Add(r[2])
		}
	}
	f.Add("D:(OA;;RPWP;bf967a86-0de6-11d0-a285-00aa003049e2;;AU)S:AI(AU;SA;FA;;;WD)")
	f.Fuzz(func(t *testing.T, text string) {
		d, err := sddl.Parse(text, account.NewID(5, 21, 1, 2, 3))
		if err != nil {
			return
		}
		one, err := sddl.Format(d)
		require.NoError(t, err)
		again, err := sddl.Parse(one, account.ID{})
		require.NoError(t, err)
		two, err := sddl.Format(again)
		require.NoError(t, err)
		require.Equal(t, one, two)
		if b, err := secdesc.Encode(d); err == nil {
			back, err := secdesc.Decode(b)
			require.NoError(t, err)
			require.True(t, slices.Equal(d.Rules.Entries, back.Rules.Entries))
		}
	})
}
