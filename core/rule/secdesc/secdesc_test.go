package secdesc

import (
	"testing"

	"github.com/stretchr/testify/require"

	"tarnwold/core/account"
	"tarnwold/core/right"
	"tarnwold/core/rule"
)

func sample() *rule.Descriptor {
	return &rule.Descriptor{
		Owner: account.MustID("S-1-5-21-1-2-3-1000"), Group: account.System, Control: rule.RulesPresent | rule.AuditPresent | rule.RulesSealed,
		Rules: rule.Rules{Entries: []rule.Entry{
			{Kind: rule.Deny, Flags: rule.ObjectInherit, Rights: right.Delete, Who: account.Everyone},
			{Kind: rule.AllowIf, Rights: right.All, Who: account.Everyone, Extra: rule.Extra{Tail: "artx...."}},
			{Kind: rule.AllowObject, Rights: 1, Who: account.Creator, Extra: rule.Extra{Object: "\x01\x00\x00\x000123456789abcdef"}},
		}},
		Audit: rule.Rules{Entries: []rule.Entry{{Kind: rule.Audit, Flags: rule.OnFailure, Rights: right.WriteACL, Who: account.Anonymous}}},
	}
}

// TestLayout holds the form against bytes put together by hand from [MS-DTYP] §2.4.6.
func TestLayout(t *testing.T) {
	d := &rule.Descriptor{Owner: account.Everyone, Control: rule.RulesPresent, Audit: rule.Rules{Absent: true},
		Rules: rule.Rules{Entries: []rule.Entry{{Kind: rule.Allow, Flags: 3, Rights: 0x1f01ff, Who: account.Everyone}}}}
	b, err := Encode(d)
	require.NoError(t, err)
	everyone := []byte{1, 1, 0, 0, 0, 0, 0, 1, 0, 0, 0, 0}
	want := []byte{1, 0, 4, 0x80, 20, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 32, 0, 0, 0}
	want = append(want, everyone...)
	want = append(want, 2, 0, 28, 0, 1, 0, 0, 0 /* entry */, 0, 3, 20, 0, 0xff, 0x01, 0x1f, 0)
	want = append(want, everyone...)
	require.Equal(t, want, b)
}

func TestRoundTrip(t *testing.T) {
	b, err := Encode(sample())
	require.NoError(t, err)
	got, err := Decode(b)
	require.NoError(t, err)
	require.Equal(t, sample(), got)
}

// TestRevisionStays: a list that says revision 4 without need is written back so, and an
// edit of its entries leaves that alone.
func TestRevisionStays(t *testing.T) {
	d := sample()
	d.Rules.Entries = d.Rules.Entries[:1]
	plain, err := Encode(d)
	require.NoError(t, err)
	at := int(plain[16]) | int(plain[17])<<8
	require.Equal(t, byte(2), plain[at])
	four := append([]byte(nil), plain...)
	four[at] = 4
	got, err := Decode(four)
	require.NoError(t, err)
	require.True(t, got.Rules.Four)
	require.False(t, got.Equal(d))
	again, err := Encode(got)
	require.NoError(t, err)
	require.Equal(t, four, again)
	given, _, err := got.Give([]rule.Entry{{Rights: 1, Who: account.System}}, rule.Giving{})
	require.NoError(t, err)
	require.True(t, given.Rules.Four)
}

func TestWrongBytesSayWhere(t *testing.T) {
	good, err := Encode(sample())
	require.NoError(t, err)
	for _, c := range []struct {
		at   int
		to   byte
		want string
	}{
		{0, 9, "byte 0: descriptor revision 9"}, {3, 0, "byte 2: the descriptor isn't in self-relative form"},
		{4, 0xff, "byte 4: the owner is said to be at byte"}, {20, 7, "byte 20: owner: identifier revision 7"},
	} {
		b := append([]byte(nil), good...)
		b[c.at] = c.to
		_, err := Decode(b)
		require.ErrorContains(t, err, c.want)
	}
	for n := range good {
		_, err := Decode(good[:n])
		require.Error(t, err, "%d of %d bytes", n, len(good))
	}
	long := &rule.Descriptor{}
	for range 4000 {
		long.Rules.Entries = append(long.Rules.Entries, rule.Entry{Who: account.Everyone})
	}
	_, err = Encode(long)
	require.ErrorContains(t, err, "the rules of 4000 entries take")
}

func FuzzDecode(f *testing.F) {
	b, err := Encode(sample())
	require.NoError(f, err)
	f.Add(b)
	f.Fuzz(func(t *testing.T, b []byte) {
		d, err := Decode(b)
		if err != nil {
			_, _ = Split(b, nil, func([]byte) {}) // whatever it says, it ends
			return
		}
		out, err := Encode(d)
		if err != nil {
			return
		}
		want := len(d.Rules.Entries) + len(d.Audit.Entries)
		for _, id := range []account.ID{d.Owner, d.Group} {
			if !id.IsZero() {
				want++
			}
		}
		n := 0
		_, err = Split(out, nil, func([]byte) { n++ })
		require.NoError(t, err, "what Encode wrote")
		require.Equal(t, want, n)
		again, err := Decode(out)
		require.NoError(t, err)
		require.Equal(t, d.Rules.Entries, again.Rules.Entries)
		twice, err := Encode(again)
		require.NoError(t, err)
		require.Equal(t, out, twice, "equal descriptors have equal bytes")
	})
}

// A form and the identifiers say all: descriptors with equal forms and identifiers are
// equal, and who is named doesn't show in the form.
func TestSplitLeavesTheFormAndTheNames(t *testing.T) {
	split := func(d *rule.Descriptor) (string, []account.ID) {
		b, err := Encode(d)
		require.NoError(t, err)
		var who []account.ID
		form, err := Split(b, nil, func(sid []byte) {
			id, n, err := account.FromBinary(sid)
			require.NoError(t, err)
			require.Len(t, sid, n)
			who = append(who, id)
		})
		require.NoError(t, err)
		for cut := range b { // bytes that end early are refused, and nothing is read beyond them
			_, err := Split(b[:cut:cut], nil, func([]byte) {})
			require.Error(t, err)
		}
		return string(form), who
	}
	d := sample()
	form, who := split(d)
	require.Equal(t, []account.ID{d.Owner, d.Group, account.Anonymous, account.Everyone, account.Everyone, account.Creator}, who)
	other := d.Clone()
	other.Owner = account.MustID("S-1-5-21-1-2-3-1001")
	same, whose := split(other)
	require.Equal(t, form, same)
	require.Equal(t, other.Owner, whose[0])
	for _, change := range []func(*rule.Descriptor){
		func(d *rule.Descriptor) { d.Rules.Entries[0].Rights |= right.ReadData },
		func(d *rule.Descriptor) { d.Rules.Entries[1].Extra.Tail = "artx...!" },
		func(d *rule.Descriptor) {
			d.Rules.Entries[0], d.Rules.Entries[1] = d.Rules.Entries[1], d.Rules.Entries[0]
		},
		func(d *rule.Descriptor) { d.Control &^= rule.RulesSealed },
		func(d *rule.Descriptor) { d.Owner = account.Everyone },
		func(d *rule.Descriptor) { d.Audit.Absent, d.Audit.Entries = true, nil },
	} {
		x := d.Clone()
		change(x)
		differs, _ := split(x)
		require.NotEqual(t, form, differs)
	}
}
