package acltext

import (
	"errors"
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"tarnwold/core/account"
	"tarnwold/core/posix"
	"tarnwold/core/rule"
)

func drawList(t *rapid.T) posix.List {
	var l posix.List
	perm := rapid.Map(rapid.IntRange(0, 7), func(n int) posix.Perm { return posix.Perm(n) })
	l = append(l, posix.Entry{Tag: posix.UserObj, Perm: perm.Draw(t, "u")})
	for _, n := range rapid.SliceOfNDistinct(rapid.Uint32Max(undefined-1), 0, 4, rapid.ID).Draw(t, "users") {
		l = append(l, posix.Entry{Tag: posix.User, Who: account.UID(n), Perm: perm.Draw(t, "user")})
	}
	l = append(l, posix.Entry{Tag: posix.GroupObj, Perm: perm.Draw(t, "g")})
	for _, n := range rapid.SliceOfNDistinct(rapid.Uint32Max(undefined-1), 0, 4, rapid.ID).Draw(t, "groups") {
		l = append(l, posix.Entry{Tag: posix.Group, Who: account.GID(n), Perm: perm.Draw(t, "group")})
	}
	if len(l) > 2 || rapid.Bool().Draw(t, "masked") {
		l = append(l, posix.Entry{Tag: posix.Mask, Perm: perm.Draw(t, "m")})
	}
	return append(l, posix.Entry{Tag: posix.Other, Perm: perm.Draw(t, "o")})
}

// TestEveryFormComesBack: short, long and binary, each list comes back as it
// was, as an access list and as a default list.
func TestEveryFormComesBack(t *testing.T) {
	rapid.Check(t, func(rt *rapid.T) {
		l, d := drawList(rt), drawList(rt)
		require.True(rt, l.Valid())
		for _, text := range []string{
			Short(l, false, Numbers) + "," + Short(d, true, Numbers),
			Long(l, false, Numbers) + Long(d, true, Numbers),
			"# a comment\n" + Long(d, true, Numbers) + "\n" + strings.ReplaceAll(Short(l, false, Numbers), ",", "\n"),
		} {
			a, b, err := Parse(text, Numbers)
			require.NoError(rt, err, text)
			require.Equal(rt, l, a, text)
			require.Equal(rt, d, b, text)
		}
		raw, err := Encode(l, NumberOf)
		require.NoError(rt, err)
		back, err := Decode(raw)
		require.NoError(rt, err)
		require.Equal(rt, l, back)
	})
}

func TestForms(t *testing.T) {
	l, _, err := Parse("u::rwx,g::r-x,o::---,u:7:6,group:8:rwx", Numbers)
	require.NoError(t, err)
	require.Equal(t, "user::rwx,user:7:rw-,group::r-x,group:8:rwx,mask::rwx,other::---", Short(l, false, Numbers), "the mask that takes nothing comes by itself")
	l[4].Perm = posix.R
	require.Equal(t, "user::rwx\nuser:7:rw-\t#effective:r--\ngroup::r-x\t#effective:r--\ngroup:8:rwx\t#effective:r--\nmask::r--\nother::---\n", Long(l, false, Numbers))
	for text, want := range map[string]string{
		"user::rwx":                            "a list has an entry for the owner",
		"user::rwx,group::r--,other::r--,x":    `entry 4: "x"; wanted as user:NAME:rwx`,
		"users::rwx":                           `entry 1: "users" is none of user, group, mask, other`,
		"user::rwz":                            `entry 1: "rwz" is not a permission`,
		"user::rr-":                            `entry 1: "rr-" is not a permission`,
		"user:bram:rwx":                        `entry 1: "bram" is not a number of an account`,
		"mask:7:rwx":                           `entry 1: "mask:7:rwx": a mask names nobody`,
		"u::7,u::7,g::7,o::7":                  "names nobody twice",
		"u::7,u:7:7,u:7:7,g::7,o::7":           "names nobody twice",
		strings.Repeat("u::7,", mostEntries+1): "more than 8192 entries",
	} {
		_, _, err := Parse(text, Numbers)
		require.ErrorContains(t, err, want, "%.60s", text)
	}
	for mode, letters := range map[uint16]string{0o644: "rw-r--r--", 0o2775: "rwxrwsr-x", 0o1777: "rwxrwxrwt", 0o7000: "--S--S--T", 0o4711: "rws--x--x"} {
		require.Equal(t, letters, Letters(mode))
		for _, text := range []string{letters, fmt.Sprintf("%04o", mode), fmt.Sprintf("%o", mode)} {
			m, err := ParseMode(text)
			require.NoError(t, err)
			require.Equal(t, mode, m, text)
		}
	}
	for _, text := range []string{"", "8", "10000", "rwxrwxrw", "rwxrwxrws", "wrx------", "-1"} {
		_, err := ParseMode(text)
		require.Error(t, err, text)
	}
}

func FuzzParse(f *testing.F) {
	f.Add("user::rwx,user:7:rw-,group::r-x,mask::r--,other::---,default:user::7,d:g::7,d:o::7")
	f.Fuzz(func(t *testing.T, text string) {
		a, d, err := Parse(text, Numbers)
		if err != nil {
			return
		}
		again, dagain, err := Parse(Long(a, false, Numbers)+Long(d, true, Numbers), Numbers)
		require.NoError(t, err)
		require.Equal(t, a, again)
		require.Equal(t, d, dagain)
	})
}

func FuzzDecode(f *testing.F) {
	f.Add([]byte("\x02\x00\x00\x00\x01\x00\x07\x00\xff\xff\xff\xff\x04\x00\x05\x00\xff\xff\xff\xff\x20\x00\x00\x00\xff\xff\xff\xff"))
	f.Fuzz(func(t *testing.T, raw []byte) {
		l, err := Decode(raw)
		if err != nil || l == nil {
			var e *Error
			require.True(t, err == nil || errors.As(err, &e) || errors.Is(err, ErrVersion), "%v", err)
			return
		}
		again, err := Encode(l, NumberOf)
		require.NoError(t, err)
		back, err := Decode(again)
		require.NoError(t, err)
		require.Equal(t, l, back)
	})
}

// FuzzDecodeRules: what is read as the rules of an item is written the same.
func FuzzDecodeRules(f *testing.F) {
	for _, r := range []*posix.Rules{{Owner: account.UID(1), Group: account.GID(2), Access: posix.Of(0o640)},
		{Folder: true, Special: posix.Sticky, Owner: account.UID(0), Group: account.GID(0), Access: posix.Of(0o777), Default: posix.Of(0o750)},
		{Folder: true, Owner: account.UID(0), Group: account.GID(0), Access: posix.Of(0o777), Default: posix.Of(0o750), Kept: kept()},
		{Folder: true, Owner: account.UID(0), Group: account.GID(0), Access: posix.Of(0o777), Marks: posix.Immutable | posix.Held}} {
		b, err := EncodeRules(r)
		require.NoError(f, err)
		f.Add(b)
	}
	f.Fuzz(func(t *testing.T, b []byte) {
		r, err := DecodeRules(b)
		if err != nil {
			return
		}
		again, err := EncodeRules(r)
		require.NoError(t, err)
		back, err := DecodeRules(again)
		require.NoError(t, err)
		once, err := EncodeRules(back) // entries for classes have an identifier that says nothing
		require.NoError(t, err)
		require.Equal(t, again, once)
		require.True(t, r.Same(back))
		require.True(t, r.Access.Valid())
		require.NotPanics(t, func() { r.Listed(); r.Steps(rule.Reading{Owner: true}); r.Named(); r.Renewed(r.Handing()) })
	})
}

// kept is a descriptor as a server keeps one beside lists.
func kept() *rule.Descriptor {
	return &rule.Descriptor{Owner: account.MustID("S-1-5-21-1-2-3-1001"), Group: account.GID(5000), Control: rule.RulesPresent, Audit: rule.Rules{Absent: true},
		Rules: rule.Rules{Entries: []rule.Entry{{Kind: rule.Deny, Who: account.Everyone, Rights: 0x10000}, {Flags: 3, Who: account.Everyone, Rights: 0x1200a9}}}}
}

// TestRulesComeBack: the rules of an item as bytes and back.
func TestRulesComeBack(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		r := &posix.Rules{Folder: rapid.Bool().Draw(t, "folder"), Owner: account.UID(rapid.Uint32().Draw(t, "uid")), Group: account.GID(rapid.Uint32().Draw(t, "gid")),
			Special: uint16(rapid.IntRange(0, 7).Draw(t, "special")) << 9, Access: drawList(t)}
		if r.Folder && rapid.Bool().Draw(t, "default") {
			r.Default = drawList(t)
		}
		if rapid.Bool().Draw(t, "kept beside") {
			r.Kept = kept()
		}
		r.Marks = posix.Marks(max(0, rapid.IntRange(-8, 31).Draw(t, "marks")))
		b, err := EncodeRules(r)
		require.NoError(t, err)
		again, err := DecodeRules(b)
		require.NoError(t, err)
		require.True(t, r.Same(again))
	})
	_, err := EncodeRules(&posix.Rules{Owner: account.MustID("S-1-5-18"), Group: account.GID(1), Access: posix.Of(0)})
	require.ErrorContains(t, err, "owners are uids")
}

// TestChanges: modes as they are typed.
func TestChanges(t *testing.T) {
	for _, c := range []struct {
		text   string
		mode   uint16
		folder bool
		want   uint16
	}{
		{"0640", 0o777, false, 0o640}, {"2770", 0, true, 0o2770}, {"rwxr-s---", 0, true, 0o2750}, {"g+w", 0o640, false, 0o660}, {"go-rwx", 0o777, false, 0o700},
		{"u=rwX,g=rX,o=", 0o600, false, 0o640}, {"u=rwX,g=rX,o=", 0o600, true, 0o750}, {"u=rwX,g=rX,o=", 0o100, false, 0o750}, {"+t", 0o777, true, 0o1777}, {"-t", 0o1777, true, 0o777},
		{"g=u", 0o740, false, 0o770}, {"g+s", 0o770, true, 0o2770}, {"g=rx", 0o2770, true, 0o2750}, {"g=rx", 0o2770, false, 0o750}, {"a+x,u-x", 0o644, false, 0o655}, {"u+s", 0o755, false, 0o4755},
	} {
		x, err := ParseChange(c.text)
		require.NoError(t, err, c.text)
		require.Equal(t, Octal(c.want), Octal(x.Of(c.mode, c.folder)), "%s of %o", c.text, c.mode)
	}
	for _, text := range []string{"", "x", "u", "u+", "u+q", "9999", "g=ux", "+w,", "rwx"} {
		if x, err := ParseChange(text); text != "u+" {
			require.Error(t, err, "%s: %+v", text, x)
		}
	}
}
