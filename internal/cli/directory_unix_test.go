//go:build unix

package cli_test

import (
	"bytes"
	"fmt"
	"os"
	"strings"
	"testing"

	goldap "github.com/go-ldap/ldap/v3"
	"github.com/stretchr/testify/require"

	"tarnwold/internal/cli"
	"tarnwold/internal/server/ldap/ldaptest"
)

// house is a program in a folder of its own.
type house struct {
	t   *testing.T
	out bytes.Buffer
}

func (h *house) run(want int, args ...string) string {
	h.out.Reset()
	require.Equal(h.t, want, cli.Main(args, strings.NewReader(""), &h.out, &h.out), "%s\n%s", args, h.out.String())
	return h.out.String()
}

const peopleBase, groups = "ou=people," + ldaptest.Base, "ou=groups," + ldaptest.Base

func somebody(uid string, number, group int) []string {
	return []string{"uid=" + uid + "," + peopleBase, "objectClass=inetOrgPerson", "objectClass=posixAccount", "objectClass=shadowAccount", "uid=" + uid, "cn=" + uid, "sn=" + uid,
		fmt.Sprintf("uidNumber=%d", number), fmt.Sprintf("gidNumber=%d", group), "homeDirectory=/nowhere"}
}

// TestADirectoryFromTheFirstDay: people come from a real directory, are called
// otherwise, join, leave, expire and go, and what that opens and closes is shown
// each time.
func TestADirectoryFromTheFirstDay(t *testing.T) {
	s := ldaptest.Start(t, ldaptest.Certificate{})
	s.Add(t, []string{peopleBase, "objectClass=organizationalUnit", "ou=people"}, []string{groups, "objectClass=organizationalUnit", "ou=groups"},
		somebody("bram", 4001, 5001), somebody("ines", 4002, 5001), somebody("petra", 4003, 5002),
		[]string{"cn=wardrobe," + groups, "objectClass=posixGroup", "cn=wardrobe", "gidNumber=5001", "memberUid=ines"},
		[]string{"cn=foyer," + groups, "objectClass=posixGroup", "cn=foyer", "gidNumber=5002"},
		[]string{"cn=role-sewers," + groups, "objectClass=groupOfNames", "cn=role-sewers", "member=uid=bram," + peopleBase})
	t.Chdir(t.TempDir())
	t.Setenv("TARNWOLD_PASSWORD_HOUSE", ldaptest.Secret)
	h := &house{t: t}
	h.run(0, "init")
	require.Contains(t, h.run(0, "directory", "add", "house", "--url", s.TLS, "--base", ldaptest.Base, "--user", ldaptest.Manager, "--ca", s.CA, "--shape", "rfc2307", "--role", "role-*"), "Kept as change 1")
	require.Contains(t, h.run(2, "directory", "add", "house", "--url", s.TLS, "--base", ldaptest.Base), "there is a directory")
	require.Contains(t, h.run(0, "directory", "test", "house"), "3 users, 3 groups, 2 memberships")
	said := h.run(0, "directory", "sync", "house", "--dry-run")
	require.Contains(t, said, "Nothing was kept: this was a dry run.")
	require.Contains(t, h.run(0, "user", "list", "--format", "csv"), "user,id", "a dry run leaves nothing")
	require.NotContains(t, h.out.String(), "bram")
	h.run(0, "directory", "sync", "house", "--yes")
	require.Contains(t, h.run(0, "directory", "show", "house"), "3 users and 3 groups, 0 of them shut")
	for _, c := range []string{"show", "test"} { // held to their schemas
		h.run(0, "directory", c, "house", "--format", "json")
	}
	h.run(0, "directory", "list", "--format", "json")
	require.Contains(t, h.run(0, "group", "list", "--format", "csv"), "role-sewers,,role,bram")
	require.Contains(t, h.run(0, "directory", "sync", "house", "--yes"), "Nothing to do")

	// A tree that they have access to.
	require.NoError(t, os.WriteFile("tree.csv", []byte("path,kind,owner,group,mode,access_acl,default_acl\n,folder,0,0,0755,,\nCostumes,folder,bram,wardrobe,0770,,\nCostumes/list.ods,file,bram,wardrobe,0660,,\n"), 0o600))
	h.run(0, "server", "add", "props", "--traits", "posix")
	h.run(0, "load", "tree", "--posix", "tree.csv", "--at", "props:/srv")
	require.Contains(t, h.run(0, "explain", "ines", "props:/srv/Costumes/list.ods"), "wardrobe, their group, has rw-")

	// The group's members are the directory's to change.
	require.Contains(t, h.run(2, "group", "join", "wardrobe", "petra", "--yes"), "petra joins cn=wardrobe,"+groups+" in directory house, which isn't written to from here")
	require.Contains(t, h.run(2, "group", "leave", "wardrobe", "ines", "--yes"), "tarnwold directory sync house")

	// What else is known of them is ours to say; what the directory says isn't.
	require.Contains(t, h.run(0, "user", "set", "petra", "--detail", "badge=7"), `badge "7", was nothing`)
	require.Contains(t, h.run(2, "user", "set", "petra", "--title", "Usher"), "petra is kept in directory house, which says that")
	require.Contains(t, h.run(0, "directory", "sync", "house", "--yes"), "Nothing to do")

	// There: petra joins, ines leaves, and is called otherwise.
	s.Change(t, func(c *goldap.Conn) error {
		r := goldap.NewModifyRequest("cn=wardrobe,"+groups, nil)
		r.Replace("memberUid", []string{"petra"})
		if err := c.Modify(r); err != nil {
			return err
		}
		r = goldap.NewModifyRequest("uid=ines,"+peopleBase, nil)
		r.Replace("gidNumber", []string{"5002"})
		r.Replace("title", []string{"Cutter"})
		r.Replace("manager", []string{"UID=bram, " + peopleBase})
		if err := c.Modify(r); err != nil {
			return err
		}
		return c.ModifyDN(goldap.NewModifyDNRequest("uid=ines,"+peopleBase, "uid=ines.quill", true, ""))
	})
	said = h.run(0, "directory", "sync", "house", "--dry-run")
	require.Contains(t, said, "name ines.quill, was ines")
	require.Regexp(t, `gain +petra +\S+ +edit rw-.* props|gain +petra`, said)
	require.Regexp(t, `lose +ines`, said)
	require.Contains(t, said, "primary group foyer, was wardrobe")
	h.run(0, "directory", "sync", "house", "--since-last", "--yes")
	require.Contains(t, h.run(0, "directory", "sync", "house", "--yes"), "Nothing to do", "what was changed since is all there is")
	said = h.run(0, "user", "show", "ines.quill")
	require.Contains(t, said, "Cutter")
	require.Contains(t, said, "works for bram", "who wasn't read again")
	require.Contains(t, h.run(2, "user", "set", "ines.quill", "--title", "Tailor"), "is kept in directory house, which says that; change it there")
	require.Contains(t, h.run(0, "leaver", "bram", "--owner-to", "petra", "--dry-run"), "who can sign on is said by directory house: have bram disabled there")
	require.Contains(t, h.run(1, "explain", "ines.quill", "props:/srv/Costumes/list.ods"), "can do nothing with it")
	require.Contains(t, h.run(0, "user", "show", "ines.quill", "--format", "json"), `"id": 4002`)

	// Bram's account is over; they own what is there.
	s.Change(t, func(c *goldap.Conn) error {
		r := goldap.NewModifyRequest("uid=bram,"+peopleBase, nil)
		r.Replace("shadowExpire", []string{"10"})
		return c.Modify(r)
	})
	require.Contains(t, h.run(0, "directory", "sync", "house", "--yes"), "shut: expired")
	require.Contains(t, h.run(0, "explain", "bram", "props:/srv/Costumes/list.ods"), "bram can't sign on: expired")
	require.Contains(t, h.run(0, "directory", "show", "house"), "1 of them shut")
	s.Change(t, func(c *goldap.Conn) error {
		for _, dn := range []string{"uid=bram," + peopleBase, "uid=petra," + peopleBase} {
			if err := c.Del(goldap.NewDelRequest(dn, nil)); err != nil {
				return err
			}
		}
		return nil
	})
	said = h.run(0, "directory", "sync", "house", "--yes")
	require.Contains(t, said, "Gone: bram isn't in the directory any more, and stays, shut")
	require.Contains(t, said, "Costumes (owner)")
	require.NotContains(t, h.run(0, "user", "list", "--format", "csv"), "petra")
	require.Contains(t, h.run(0, "user", "list", "--format", "csv"), "bram")
	h.run(0, "check")

	// Taken back, it is as it was; the next sync says the same again.
	changes := strings.Split(h.run(0, "log", "--format", "csv"), "\n")
	last, _, _ := strings.Cut(changes[1], ",")
	h.run(0, "undo", last, "--yes")
	require.Contains(t, h.run(0, "user", "list", "--format", "csv"), "petra")
	require.Contains(t, h.run(2, "directory", "sync", "house", "--since-last", "--yes"), "people of house were taken back since it was read; leave out --since-last")
	require.Contains(t, h.run(0, "directory", "sync", "house", "--yes"), "Gone: bram")
	require.Contains(t, h.run(0, "directory", "sync", "house", "--since-last", "--yes"), "Nothing to do")

	// Somebody who is moved, and nothing else, is something new.
	s.Change(t, func(c *goldap.Conn) error {
		r := goldap.NewModifyRequest("uid=ines.quill,"+peopleBase, nil)
		r.Replace("gidNumber", []string{"5001"})
		return c.Modify(r)
	})
	require.Contains(t, h.run(0, "directory", "sync", "house", "--yes"), "people from directory house: 1 changed\n")

	// Another directory of that name was never read.
	require.NotContains(t, h.run(0, "directory", "show", "house"), "never")
	h.run(0, "directory", "remove", "house")
	h.run(0, "directory", "add", "house", "--url", s.Plain, "--base", ldaptest.Base, "--unencrypted", "--shape", "rfc2307", "--role", "role-*")
	require.Regexp(t, `taken in +never`, h.run(0, "directory", "show", "house"))
	require.Contains(t, h.run(2, "directory", "sync", "house", "--since-last", "--yes"), "never read whole")
	said = h.run(0, "directory", "test", "house")
	require.Regexp(t, `yes +reached +unencrypted`, said)
	require.NotContains(t, said, "certificate", "none is shown")
	h.run(0, "directory", "remove", "house")
	h.run(0, "directory", "add", "house", "--url", s.TLS, "--base", ldaptest.Base, "--user", ldaptest.Manager, "--ca", s.CA, "--shape", "rfc2307", "--role", "role-*")
	require.Regexp(t, `yes +certificate trusted`, h.run(0, "directory", "test", "house"))
	require.Contains(t, h.run(0, "directory", "sync", "house", "--yes"), "known already")

	// Where the password is can be written down; it itself isn't.
	require.NoError(t, os.Unsetenv("TARNWOLD_PASSWORD_HOUSE")) // put back at the end
	require.Contains(t, h.run(2, "directory", "test", "house"), "no password")
	require.NoError(t, os.WriteFile("house.secret", []byte(ldaptest.Secret+"\n"), 0o644))
	require.Contains(t, h.run(2, "directory", "set", "house", "--password-at", "house.secret"), "can be read by others than its owner")
	require.NoError(t, os.Chmod("house.secret", 0o600))
	require.Contains(t, h.run(0, "directory", "set", "house", "--password-at", "house.secret"), "/house.secret, was none")
	require.NotContains(t, h.run(0, "log", "show", "--format", "json", strings.Split(h.run(0, "log", "--format", "csv"), "\n")[1][:2]), ldaptest.Secret)
	require.Contains(t, h.run(0, "directory", "show", "house"), "password in")
	require.Contains(t, h.run(0, "directory", "test", "house"), "yes    signed on")
	require.Contains(t, h.run(0, "directory", "set", "house", "--user", "cn=somebody,"+ldaptest.Base), "password-at none, was /", "another's password it isn't")
	h.run(0, "directory", "set", "house", "--user", ldaptest.Manager, "--password-at", "house.secret")

	// A directory that tells of nobody is believed no more than one that is gone.
	s.Change(t, func(c *goldap.Conn) error {
		for _, dn := range []string{"uid=ines.quill," + peopleBase, "cn=wardrobe," + groups, "cn=foyer," + groups, "cn=role-sewers," + groups} {
			if err := c.Del(goldap.NewDelRequest(dn, nil)); err != nil {
				return err
			}
		}
		return nil
	})
	require.Contains(t, h.run(2, "directory", "sync", "house", "--yes"), "returned nobody at all")
	s.Kill()
	require.Contains(t, h.run(3, "directory", "sync", "house", "--yes"), "refused")
	require.Contains(t, h.run(1, "directory", "test", "house"), "no     reached")
	h.run(0, "directory", "remove", "house", "--yes")
	require.Contains(t, h.run(0, "directory", "list", "--format", "csv"), "directory,reached by")
	h.run(0, "group", "join", "wardrobe", "ines.quill", "--yes")
	h.run(0, "check")
}

// TestMembershipsAreChangedThere: where a directory was added with --writes, who
// joins and leaves does so there, read back, and undone; and where that fails
// nothing is kept here either.
func TestMembershipsAreChangedThere(t *testing.T) {
	s := ldaptest.Start(t, ldaptest.Certificate{})
	s.Add(t, []string{peopleBase, "objectClass=organizationalUnit", "ou=people"}, []string{groups, "objectClass=organizationalUnit", "ou=groups"},
		somebody("bram", 4001, 5001), somebody("ines", 4002, 5001),
		[]string{"cn=wardrobe," + groups, "objectClass=posixGroup", "cn=wardrobe", "gidNumber=5001"},
		[]string{"cn=sewers," + groups, "objectClass=groupOfNames", "cn=sewers", "member=uid=bram," + peopleBase})
	listed := func(group, attr string) (out []string) {
		s.Change(t, func(c *goldap.Conn) error {
			got, err := c.Search(goldap.NewSearchRequest("cn="+group+","+groups, goldap.ScopeBaseObject, 0, 1, 0, false, "(objectClass=*)", []string{attr}, nil))
			if err == nil {
				out = got.Entries[0].GetAttributeValues(attr)
			}
			return err
		})
		return out
	}
	t.Chdir(t.TempDir())
	t.Setenv("TARNWOLD_PASSWORD_HOUSE", ldaptest.Secret)
	h := &house{t: t}
	h.run(0, "init")
	h.run(0, "directory", "add", "house", "--url", s.TLS, "--base", ldaptest.Base, "--user", ldaptest.Manager, "--ca", s.CA, "--shape", "rfc2307", "--writes")
	require.Contains(t, h.run(0, "directory", "show", "house"), "who is in its groups")
	h.run(0, "directory", "sync", "house", "--yes") // change 2

	said := h.run(0, "group", "join", "wardrobe", "ines", "bram", "--dry-run")
	require.Contains(t, said, "This goes to the directory house: 2 memberships.")
	require.Empty(t, listed("wardrobe", "memberUid"), "a dry run writes nothing")
	h.run(0, "group", "join", "wardrobe", "ines", "bram", "--yes")
	require.ElementsMatch(t, []string{"ines", "bram"}, listed("wardrobe", "memberUid"))
	h.run(0, "group", "join", "sewers", "ines", "--yes")
	require.Len(t, listed("sewers", "member"), 2)
	require.Contains(t, h.run(0, "directory", "sync", "house", "--yes"), "Nothing to do")
	h.run(0, "undo", "3", "--yes")
	require.Empty(t, listed("wardrobe", "memberUid"))
	h.run(0, "group", "leave", "sewers", "ines", "--yes")
	require.Equal(t, []string{"uid=bram," + peopleBase}, listed("sewers", "member"))

	// What the directory refuses isn't kept: a group of names is never empty.
	before := h.run(0, "log", "--format", "csv")
	require.Contains(t, h.run(3, "group", "leave", "sewers", "bram", "--yes"), "directory house")
	require.Equal(t, before, h.run(0, "log", "--format", "csv"))
	require.Equal(t, []string{"uid=bram," + peopleBase}, listed("sewers", "member"))
	// One of two fails: the other is taken back.
	s.Change(t, func(c *goldap.Conn) error {
		r := goldap.NewModifyRequest("cn=wardrobe,"+groups, nil)
		r.Add("memberUid", []string{"bram"})
		return c.Modify(r)
	})
	require.Contains(t, h.run(3, "group", "join", "wardrobe", "ines", "bram", "--yes"), "bram in wardrobe (directory house): who is a member there differs from the estate, and nothing was written; tarnwold directory sync house takes in what the directory has, then look again")
	require.Equal(t, []string{"bram"}, listed("wardrobe", "memberUid"))
	require.Contains(t, h.run(0, "directory", "sync", "house", "--yes"), "1 membership more")
	// Taking back what came from there is the estate's alone.
	h.run(0, "undo", strings.TrimSpace(firstField(h.run(0, "log", "--format", "csv"))), "--yes")
	require.Equal(t, []string{"bram"}, listed("wardrobe", "memberUid"))

	require.Contains(t, h.run(2, "user", "remove", "ines", "--yes"), "ines is kept in directory house")
	h.run(0, "user", "add", "guest")
	require.Contains(t, h.run(2, "group", "join", "wardrobe", "guest", "--yes"), "which doesn't have guest")
	s.Kill()
	h.run(3, "group", "join", "wardrobe", "ines", "--yes")
	h.run(0, "group", "join", "wardrobe", "ines", "--yes", "--model-only")
	h.run(0, "check")
}

func firstField(csv string) string {
	line := strings.Split(csv, "\n")[1]
	f, _, _ := strings.Cut(line, ",")
	return f
}
