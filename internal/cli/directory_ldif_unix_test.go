//go:build unix

package cli_test

import (
	"bytes"
	"errors"
	"io"
	"os"
	"path/filepath"
	"testing"

	goldap "github.com/go-ldap/ldap/v3"
	"github.com/stretchr/testify/require"

	"tarnwold/internal/format/ldif"
	"tarnwold/internal/server/ldap/ldaptest"
)

// TestWhatIsToBeDoneInADirectory: a directory isn't written to. What a change of its groups
// would bring is shown and supposed all the same; what is to be done there is written down
// as LDIF, and the rest is kept; once it is done there, the estate is as it was to be.
func TestWhatIsToBeDoneInADirectory(t *testing.T) {
	s := ldaptest.Start(t, ldaptest.Certificate{})
	s.Add(t, []string{peopleBase, "objectClass=organizationalUnit", "ou=people"}, []string{groups, "objectClass=organizationalUnit", "ou=groups"},
		somebody("bram", 4001, 5002), somebody("ines", 4002, 5002), somebody("petra", 4003, 5002),
		[]string{"cn=wardrobe," + groups, "objectClass=posixGroup", "cn=wardrobe", "gidNumber=5001", "memberUid=ines", "memberUid=bram"},
		[]string{"cn=foyer," + groups, "objectClass=posixGroup", "cn=foyer", "gidNumber=5002"},
		[]string{"cn=crew," + groups, "objectClass=groupOfNames", "cn=crew", "member=uid=bram," + peopleBase, "member=uid=ines," + peopleBase})
	t.Chdir(t.TempDir())
	t.Setenv("TARNWOLD_PASSWORD_HOUSE", ldaptest.Secret)
	h := &house{t: t}
	h.run(0, "init")
	h.run(0, "directory", "add", "house", "--url", s.TLS, "--base", ldaptest.Base, "--user", ldaptest.Manager, "--ca", s.CA, "--shape", "rfc2307")
	h.run(0, "directory", "sync", "house", "--yes")
	require.NoError(t, os.WriteFile("tree.csv", []byte("path,kind,owner,group,mode,access_acl,default_acl\n,folder,0,0,0755,,\nCostumes,folder,0,wardrobe,0770,,\nDesk,folder,0,foyer,0770,\"user::rwx,group::rwx,group:wardrobe:r-x,mask::rwx,other::---\",\n"), 0o600))
	h.run(0, "group", "set", "crew", "--about", "tours")
	h.run(0, "server", "add", "props", "--traits", "posix")
	h.run(0, "load", "tree", "--posix", "tree.csv", "--at", "props:/srv")

	// What was said of it can be changed; the rest stays.
	require.Contains(t, h.run(0, "directory", "set", "house", "--writes"), "writes yes, was no")
	require.Contains(t, h.run(0, "group", "join", "wardrobe", "petra", "--dry-run"), "This goes to the directory house: 1 membership.")
	require.Contains(t, h.run(0, "directory", "set", "house", "--writes"), "Nothing to do: it is so already.")
	require.Contains(t, h.run(0, "directory", "set", "house", "--writes=false"), "writes no, was yes")
	require.Contains(t, h.run(2, "directory", "set", "house"), "nothing to change is given")
	require.Contains(t, h.run(2, "directory", "set", "hous", "--writes"), `there is no directory "hous"; the nearest is "house"`)
	require.Contains(t, h.run(2, "directory", "set", "house", "--url", "http://x"), "is not an address of a directory")
	require.Contains(t, h.run(2, "directory", "set", "house", "--shape", "domain"), "unknown flag: --shape")
	require.Contains(t, h.run(0, "directory", "show", "house"), s.TLS)
	require.Contains(t, h.run(0, "directory", "set", "house", "--base", peopleBase), "base "+peopleBase+", was "+ldaptest.Base)
	require.Contains(t, h.run(2, "directory", "sync", "house", "--since-last", "--yes"), "was never read whole")
	h.run(0, "undo", kept(t, h.run(0, "directory", "set", "house", "--filter", "(uid=*)")), "--yes")
	h.run(0, "directory", "set", "house", "--base", ldaptest.Base)
	h.run(0, "directory", "sync", "house", "--yes")

	// Supposed, and looked at.
	require.Contains(t, h.run(0, "explain", "petra", "props:/srv/Costumes", "--if", "petra joins wardrobe"), "petra")
	h.run(1, "explain", "petra", "props:/srv/Costumes")
	require.Contains(t, h.run(1, "explain", "petra", "props:/srv/Costumes", "--want", "edit"), "tarnwold group join wardrobe petra")
	said := h.run(0, "group", "join", "wardrobe", "petra", "--dry-run")
	require.Contains(t, said, "gain  petra")
	require.Contains(t, said, "To be done in the directory house, which isn't written to from here: 1 membership; --ldif FILE writes down what is to be changed there, and keeps the rest.")
	require.Contains(t, h.run(2, "group", "join", "wardrobe", "petra", "--yes"), "--ldif FILE writes down")
	require.Contains(t, h.run(2, "group", "join", "wardrobe", "petra", "--save", "later.json"), "which isn't written to from here")
	require.NoFileExists(t, "later.json")

	// All of it is the directory's: a file, and nothing else.
	said = h.run(0, "group", "join", "wardrobe", "petra", "--ldif", "join.ldif", "--yes")
	require.Contains(t, said, "Nothing to do: all of it is to be done in a directory.")
	require.Contains(t, said, "Written to join.ldif, for whoever may change the directory; once it is done there: tarnwold directory sync house")
	require.NotContains(t, h.run(0, "group", "show", "wardrobe"), "petra")
	text, err := os.ReadFile("join.ldif")
	require.NoError(t, err)
	require.Equal(t, "version: 1\n\ndn: cn=wardrobe,"+groups+"\nchangetype: modify\nadd: memberUid\nmemberUid: petra\n-\n", string(text))
	info, err := os.Stat("join.ldif")
	require.NoError(t, err)
	require.Equal(t, os.FileMode(0o600), info.Mode().Perm())
	h.run(2, "group", "join", "wardrobe", "petra", "--ldif", "join.ldif", "--yes") // it is there already

	// Part of it is: bram goes from everything, of which the directory has two memberships.
	h.run(0, "mode", "props:/srv/Desk", "--entry", "user:bram:rwx", "--yes")
	require.NoFileExists(t, "bram.ldif")
	said = h.run(0, "strip", "bram", "--ldif", "bram.ldif", "--dry-run")
	require.NoFileExists(t, "bram.ldif")
	require.Contains(t, said, "isn't written to from here: 2 memberships.")
	said = h.run(0, "strip", "bram", "--ldif", "bram.ldif", "--yes")
	require.Contains(t, said, "Kept as change")
	require.NotContains(t, h.run(0, "mode", "props:/srv/Desk"), "bram")
	require.Contains(t, h.run(0, "group", "show", "crew"), "bram", "until it is done there")
	text, err = os.ReadFile("bram.ldif")
	require.NoError(t, err)
	require.Contains(t, string(text), "delete: member\nmember: uid=bram,"+peopleBase+"\n")
	require.Contains(t, string(text), "delete: memberUid\nmemberUid: bram\n")

	// Done there, by its own reader of the same format, the estate follows.
	for _, file := range []string{"join.ldif", "bram.ldif"} {
		applyLDIF(t, s, file)
	}
	h.run(0, "directory", "sync", "house", "--yes")
	require.Contains(t, h.run(0, "group", "show", "wardrobe"), "petra")
	require.NotContains(t, h.run(0, "group", "show", "crew"), "bram")
	require.Contains(t, h.run(0, "uses", "bram"), "nothing names bram")
	h.run(0, "check")
}

// TestWrittenLDIF: what can't stand as it is stands in base64, and is read back.
func TestWrittenLDIF(t *testing.T) {
	want := []ldif.Record{{DN: "cn=Übung,dc=x", Change: ldif.Modify, Parts: []ldif.Part{{Do: ldif.Add, Name: "member", Values: []string{"cn=a,dc=x", " begins", "ends ", ":colon", "<less", "new\nline", "é"}}, {Do: ldif.Delete, Name: "member", Values: []string{"uid=b,dc=x"}}}}}
	var out bytes.Buffer
	require.NoError(t, ldif.Write(&out, want))
	r := ldif.NewReader(bytes.NewReader(out.Bytes()), "x.ldif")
	got, err := r.Next()
	require.NoError(t, err)
	require.Equal(t, want[0].DN, got.DN)
	require.Equal(t, want[0].Parts, got.Parts)
	require.NotContains(t, out.String(), "Übung")
	_, err = r.Next()
	require.ErrorIs(t, err, io.EOF)
	require.Error(t, ldif.Write(&out, []ldif.Record{{DN: "x", Parts: []ldif.Part{{}}}}))
}

// applyLDIF does in a directory what a file of changes says.
func applyLDIF(t *testing.T, s *ldaptest.Server, file string) {
	f, err := os.Open(filepath.Clean(file))
	require.NoError(t, err)
	defer f.Close()
	list := ldif.NewReader(f, file)
	s.Change(t, func(c *goldap.Conn) error {
		for {
			r, err := list.Next()
			if errors.Is(err, io.EOF) {
				return nil
			}
			if err != nil {
				return err
			}
			m := goldap.NewModifyRequest(r.DN, nil)
			for _, p := range r.Parts {
				if p.Do == ldif.Add {
					m.Add(p.Name, p.Values)
				} else {
					m.Delete(p.Name, p.Values)
				}
			}
			if err := c.Modify(m); err != nil {
				return err
			}
		}
	})
}
