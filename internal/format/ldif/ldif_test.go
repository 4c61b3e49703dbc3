package ldif

import (
	"encoding/base64"
	"errors"
	"fmt"
	"io"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"tarnwold/internal/format"
)

func all(t testing.TB, text string, want ...string) (out []*Record, err error) {
	r := NewReader(strings.NewReader(text), "x.ldif", want...)
	for {
		x, err := r.Next()
		if err == io.EOF {
			return out, nil
		}
		if err != nil {
			return out, err
		}
		out = append(out, x)
	}
}

func TestEntries(t *testing.T) {
	got, err := all(t, "version: 1\r\n# a word\r\n#  of two lines\r\n  folded\r\ndn: cn=Bram,dc=play\r\n house\r\nCN: Bram\r\ncn;lang-de:: QnLDpG0=\r\n"+
		"empty:\r\nspaced:    x \r\n\r\n\r\ndn:: Y249QnLDpG0=\r\nobjectSid:: AQI=\r\n")
	require.NoError(t, err)
	require.Len(t, got, 2)
	require.Equal(t, "cn=Bram,dc=playhouse", got[0].DN)
	require.Equal(t, []Part{{Name: "cn", Values: []string{"Bram", "Bräm"}}, {Name: "empty", Values: []string{""}}, {Name: "spaced", Values: []string{"x "}}}, got[0].Parts)
	require.Equal(t, 5, got[0].Line)
	require.Equal(t, "cn=Bräm", got[1].DN)
	require.Equal(t, "\x01\x02", got[1].Parts[0].Values[0])
	got, err = all(t, "dn: cn=a\ncn: a\nmember: x\nmember: y\n", "Member")
	require.NoError(t, err)
	require.Equal(t, []Part{{Name: "member", Values: []string{"x", "y"}}}, got[0].Parts)
}

func TestChangeRecords(t *testing.T) {
	got, err := all(t, `dn: cn=a
changetype: add
cn: a

dn: cn=b
control: 1.2.3 true
changetype: modify
add: member
member: cn=x
member: cn=y
-
delete: mail
-
replace: uid
uid: c

dn: cn=c
changetype: modrdn
newrdn: cn=d
deleteoldrdn: 1
newsuperior: ou=e

dn: cn=d
changetype: delete
`)
	require.NoError(t, err)
	require.Equal(t, []Change{Add, Modify, Rename, Delete}, []Change{got[0].Change, got[1].Change, got[2].Change, got[3].Change})
	require.Equal(t, []Part{{Add, "member", []string{"cn=x", "cn=y"}}, {Delete, "mail", nil}, {Modify, "uid", []string{"c"}}}, got[1].Parts)
	require.Equal(t, "cn=d", got[2].NewRDN)
	require.True(t, got[2].Moves)
}

func TestWhatIsWrong(t *testing.T) {
	for text, want := range map[string]struct {
		line int
		what string
	}{
		"cn: a\n":              {1, "begins with dn:"},
		"version: 2\n":         {1, "version"},
		"dn: cn=a\nnonsense\n": {2, "is not an attribute with a value"},
		"dn: cn=a\ncn:: %%\n":  {2, "not valid base64"},
		"dn: cn=a\njpegPhoto:< file:///etc/passwd\n":   {2, "is not read"},
		"dn: cn=a\nchangetype: burn\n":                 {2, "none of add"},
		"dn: cn=a\nchangetype: delete\ncn: a\n":        {3, "is deleted"},
		"dn: cn=a\nchangetype: modify\nincrement: x\n": {3, "is due"},
		"dn: cn=a\nchangetype: modify\nadd: x\ny: 1\n": {4, "in a change of x"},
		"dn: cn=a\nchangetype: modrdn\n":               {1, "without newrdn"},
		"dn: cn=a\nchangetype: modrdn\nx: 1\n":         {3, "where a name is changed"},
		"dn: cn=a\nc n: a\n":                           {2, "not a name of an attribute"},
		"dn: cn=a\n-\n":                                {2, "outside of a change"},
		"dn:: /w==\n":                                  {1, "not UTF-8"},
	} {
		_, err := all(t, text)
		var at *format.Error
		require.True(t, errors.As(err, &at), text)
		require.Equal(t, want.line, at.Line, text)
		require.ErrorContains(t, err, want.what)
	}
}

// TestFoldedIsTheSame: however a text is folded, and whatever is written in
// base64, it reads the same.
func TestFoldedIsTheSame(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		var plain, odd strings.Builder
		for range rapid.IntRange(1, 4).Draw(t, "entries") {
			for i := range rapid.IntRange(1, 5).Draw(t, "lines") {
				name, v := "cn", rapid.StringMatching(`[a-zA-Z0-9,=+]{1,30}( [a-z:<#]{1,5})?`).Draw(t, "value")
				if i == 0 {
					name = "dn"
				}
				plain.WriteString(name + ": " + v + "\n")
				line := name + ": " + v
				if rapid.Bool().Draw(t, "encoded") {
					line = name + ":: " + base64.StdEncoding.EncodeToString([]byte(v))
				}
				for len(line) > 3 && rapid.Bool().Draw(t, "fold") {
					n := rapid.IntRange(1, len(line)-1).Draw(t, "at")
					odd.WriteString(line[:n] + "\r\n")
					line = " " + line[n:]
				}
				odd.WriteString(line + "\r\n")
			}
			plain.WriteString("\n")
			odd.WriteString("\r\n# said\r\n")
		}
		a, err := all(nil, plain.String())
		require.NoError(t, err)
		b, err := all(nil, odd.String())
		require.NoError(t, err)
		require.Equal(t, len(a), len(b))
		for i := range a {
			require.Equal(t, a[i].DN, b[i].DN)
			require.Equal(t, a[i].Parts, b[i].Parts)
		}
	})
}

func TestNamesAlike(t *testing.T) {
	for _, same := range [][]string{
		{"CN=Bram Quill,OU=People,DC=playhouse", "cn=bram quill,ou=people,dc=playhouse", "cn = Bram  Quill , ou=People;dc=playhouse", `cn="Bram Quill",ou=People,dc=playhouse`,
			`cn=Bram\20Quill,ou=People,dc=playhouse`},
		{`cn=Quill\, Bram,dc=x`, `CN=Quill\2c Bram,DC=X`, `cn="Quill, Bram",dc=x`},
		{`cn=Bräm,dc=x`, `cn=Br\c3\a4m,dc=x`, "cn=Bra\u0308m,dc=x"},
		{"cn=a+sn=b,dc=x", "SN=b + CN=a,dc=x"},
		{`cn=#04024869,dc=x`, `cn=#04024869 , dc=X`},
		{`cn=\ a\ ,dc=x`},
		{"", " "},
	} {
		first, err := Key(same[0])
		require.NoError(t, err)
		for _, o := range same {
			k, err := Key(o)
			require.NoError(t, err, o)
			require.Equal(t, first, k, o)
			again, err := Key(k)
			require.NoError(t, err, k)
			require.Equal(t, k, again)
		}
	}
	for _, bad := range []string{"bram", "cn=a,", "cn=a,bram", "=a", `cn=a\`, `cn="a`, "cn=#zz", "c n=a", "cn=a,,dc=x"} {
		_, err := Key(bad)
		require.Error(t, err, bad)
	}
	a, _ := Key(`cn=a\,b=c,dc=x`)
	b, _ := Key(`cn=a,b=c,dc=x`)
	require.NotEqual(t, a, b)
	require.Equal(t, "Bram Quill", First("CN=Bram Quill,OU=x"))
}

func FuzzRecords(f *testing.F) {
	f.Add("version: 1\ndn: cn=a\ncn: a\n")
	f.Add("dn: cn=b\nchangetype: modify\nadd: member\nmember: x\n-\n")
	f.Add("dn:: Y249YQ==\nchangetype: modrdn\nnewrdn: cn=b\n")
	f.Fuzz(func(t *testing.T, text string) {
		got, err := all(t, text)
		if err != nil {
			return
		}
		for _, x := range got {
			_, _ = Key(x.DN)
		}
	})
}

// TestReadAhead: every record is told once and in order, however many there are;
// what is wrong is said behind those before it, and who doesn't want more gets
// no more.
func TestReadAhead(t *testing.T) {
	var b strings.Builder
	for i := range 3*batch + 7 {
		b.WriteString("dn: cn=" + strings.Repeat("x", i%9) + string(rune('a'+i%26)) + "\ncn: v\n\n")
	}
	want, err := all(t, b.String())
	require.NoError(t, err)
	var got []*Record
	require.NoError(t, NewReader(strings.NewReader(b.String()), "x.ldif").Each(func(x *Record) error {
		got = append(got, x)
		return nil
	}))
	require.Equal(t, want, got)
	n := 0
	err = NewReader(strings.NewReader(b.String()+"nonsense\n"), "x.ldif").Each(func(*Record) error { n++; return nil })
	var at *format.Error
	require.ErrorAs(t, err, &at)
	require.Equal(t, 3*(3*batch+7)+1, at.Line)
	require.Equal(t, 3*batch+7, n)
	enough := errors.New("enough")
	n = 0
	require.ErrorIs(t, NewReader(strings.NewReader(b.String()), "x.ldif").Each(func(*Record) error {
		if n++; n == 5 {
			return enough
		}
		return nil
	}), enough)
	require.Equal(t, 5, n)
}

// TestManyAttributes: an entry with more of them than are looked through one by
// one keeps each with its values.
func TestManyAttributes(t *testing.T) {
	var b strings.Builder
	b.WriteString("dn: cn=a\n")
	for round := range 3 {
		for i := range 3 * few {
			fmt.Fprintf(&b, "a%d: %d-%d\n", i, i, round)
		}
	}
	got, err := all(t, b.String())
	require.NoError(t, err)
	require.Len(t, got[0].Parts, 3*few)
	for i, p := range got[0].Parts {
		require.Equal(t, Part{Name: fmt.Sprint("a", i), Values: []string{fmt.Sprint(i, "-0"), fmt.Sprint(i, "-1"), fmt.Sprint(i, "-2")}}, p)
	}
}

func FuzzKey(f *testing.F) {
	for _, s := range []string{"cn=a,dc=b", `cn=a\2cb`, `cn="a,b"`, "cn=#0401", "cn=a+sn=b"} {
		f.Add(s)
	}
	f.Fuzz(func(t *testing.T, s string) {
		k, err := Key(s)
		appended, err2 := AppendKey([]byte("x"), s)
		require.Equal(t, err, err2)
		if err != nil {
			return
		}
		require.Equal(t, "x"+k, string(appended))
		parts, err := Split(s)
		require.NoError(t, err)
		require.Equal(t, Join(parts), k, "however plain it is")
		again, err := Key(k)
		require.NoError(t, err, k)
		require.Equal(t, k, again)
	})
}
