package shape

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"tarnwold/core/account"
	"tarnwold/internal/format/ldif"
)

func named(f *People, name string) *Person {
	for i := range f.People {
		if f.People[i].Name == name {
			return &f.People[i]
		}
	}
	return nil
}

func members(f *People, group string) (out []string) {
	for _, m := range f.Members {
		if f.People[m[0]].Name == group {
			out = append(out, f.People[m[1]].Name)
		}
	}
	return out
}

const domain = `dn: CN=Bram,DC=x
objectClass: user
sAMAccountName: bram
objectSid: S-1-5-21-1-2-3-1001
primaryGroupID: 513
userAccountControl: 512
accountExpires: 9223372036854775807

dn: CN=Ines,DC=x
objectClass: user
sAMAccountName: ines
objectSid: S-1-5-21-1-2-3-1002
userAccountControl: 514

dn: CN=Petra,DC=x
objectClass: user
sAMAccountName: petra
objectSid: S-1-5-21-1-2-3-1003
accountExpires: 133000000000000000

dn: CN=BOX,DC=x
objectClass: user
objectClass: computer
sAMAccountName: BOX$
objectSid: S-1-5-21-1-2-3-1004

dn: CN=role-sewers,DC=x
objectClass: group
sAMAccountName: role-sewers
objectSid: S-1-5-21-1-2-3-2001
groupType: -2147483646
member: CN=Bram,DC=x
member: cn=bram , dc=x
member: CN=BOX,DC=x
member: CN=nobody,DC=x

dn: CN=role-letters,DC=x
objectClass: group
sAMAccountName: role-letters
objectSid: S-1-5-21-1-2-3-2002
groupType: 2
description: for letters
member: CN=role-sewers,DC=x
`

func TestADomainsShape(t *testing.T) {
	f := gather(t, "domain", Purposes{Role: []string{"role-*"}}, strings.NewReader(domain))
	require.Len(t, f.People, 5)
	require.Equal(t, "", named(f, "bram").Shut)
	require.Equal(t, "disabled", named(f, "ines").Shut)
	require.Equal(t, "expired", named(f, "petra").Shut)
	require.Equal(t, "S-1-5-21-1-2-3-513", named(f, "bram").Primary.String())
	require.Equal(t, account.Role, named(f, "role-sewers").Purpose)
	require.Equal(t, account.Mail, named(f, "role-letters").Purpose, "not for security, whatever it is called")
	require.Equal(t, []string{"bram"}, members(f, "role-sewers"), "named twice, and once")
	require.Equal(t, []string{"role-sewers"}, members(f, "role-letters"))
	require.Equal(t, map[string]int{"computers": 1, "members of other kinds": 1, "members that aren't there": 1}, f.Left)
	f = gather(t, "domain", Purposes{Access: []string{"description=for *"}, Role: []string{"*"}}, strings.NewReader(strings.Replace(domain, "groupType: 2", "groupType: -2147483644", 1)))
	require.Equal(t, account.Role, named(f, "role-letters").Purpose, "the first that fits, by job before by entries")
	f = gather(t, "domain", Purposes{Mail: []string{"DESCRIPTION=FOR*"}}, strings.NewReader(strings.Replace(domain, "groupType: 2", "groupType: -2147483644", 1)))
	require.Equal(t, account.Mail, named(f, "role-letters").Purpose)
}

// TestALockIsLookedAtAgain: how long one lasts isn't told, and no change in the directory
// ends it.
func TestALockIsLookedAtAgain(t *testing.T) {
	locked := strings.Replace(domain, "userAccountControl: 512", "userAccountControl: 512\nmsDS-User-Account-Control-Computed: 16", 1)
	f := gather(t, "domain", Purposes{}, strings.NewReader(locked))
	require.Equal(t, "locked out", named(f, "bram").Shut)
	require.Equal(t, now.Unix()+lockLasts, f.Until)
	require.Zero(t, gather(t, "domain", Purposes{}, strings.NewReader(domain)).Until)
}

// TestChangesAreApplied: entries changed, renamed with what is below them, and gone.
func TestChangesAreApplied(t *testing.T) {
	f := gather(t, "domain", Purposes{}, strings.NewReader(domain), strings.NewReader(`dn: cn=ROLE-sewers,dc=x
changetype: modify
delete: member
member: CN=bram,DC=X
-
add: member
member: CN=Ines,DC=x
-
replace: sAMAccountName
sAMAccountName: sewers

dn: CN=Petra,DC=x
changetype: delete

dn: CN=Ines,DC=x
changetype: modrdn
newrdn: CN=Ines Quill
deleteoldrdn: 1
newsuperior: OU=People,DC=x

dn: CN=Nils,DC=x
changetype: add
objectClass: user
sAMAccountName: nils
objectSid: S-1-5-21-1-2-3-1009
`))
	require.Nil(t, named(f, "petra"))
	require.NotNil(t, named(f, "nils"))
	require.Equal(t, "CN=Ines Quill,OU=People,DC=x", named(f, "ines").DN)
	require.Equal(t, []string{"ines"}, members(f, "sewers"))
	s, _ := Named("domain")
	for text, want := range map[string]string{
		"dn: cn=a\nchangetype: delete\n":                                      "isn't there",
		"dn: cn=Bram,dc=x\nobjectClass: user\n":                               "is there already",
		"dn: cn=Bram,dc=x\nchangetype: modrdn\nnewrdn: CN=Ines\n":             "is there already",
		"dn: cn=Bram,dc=x\nchangetype: modrdn\nnewrdn: nonsense\n":            "not part of a name",
		"dn: nonsense\nobjectClass: user\n":                                   "not a distinguished name",
		"dn: cn=b,dc=x\nobjectClass: user\nsAMAccountName: b\nobjectSid: x\n": "not an identifier",
	} {
		g := Gather(s, "x", Purposes{}, now)
		put := func(text string) (err error) {
			r := ldif.NewReader(strings.NewReader(text), "x", s.Attributes()...)
			for err == nil {
				var x *ldif.Record
				if x, err = r.Next(); err == nil {
					err = g.Record(x)
				}
			}
			if err.Error() == "EOF" {
				_, err = g.People()
			}
			return err
		}
		require.NoError(t, put(domain))
		require.ErrorContains(t, put(text), want, text)
	}
}

func TestShapeOfPosixAccounts(t *testing.T) {
	f := gather(t, "rfc2307", Purposes{}, strings.NewReader(`dn: uid=bram,dc=x
objectClass: posixAccount
uid: bram
uidNumber: 4001
gidNumber: 5001
shadowExpire: 1

dn: uid=ines,dc=x
objectClass: posixAccount
uid: ines
uidNumber: 4002
gidNumber: 5001
shadowExpire: 99999

dn: cn=wardrobe,dc=x
objectClass: posixGroup
cn: wardrobe
gidNumber: 5001
memberUid: INES
memberUid: nobody

dn: cn=all,dc=x
objectClass: groupOfUniqueNames
cn: all
uniqueMember: cn=wardrobe,dc=x
`))
	require.Equal(t, "expired", named(f, "bram").Shut)
	require.Empty(t, named(f, "ines").Shut)
	require.Equal(t, int64(5001), named(f, "ines").First)
	require.Equal(t, []string{"ines"}, members(f, "wardrobe"))
	require.Equal(t, []string{"wardrobe"}, members(f, "all"))
	require.Equal(t, int64(account.NoPOSIX), named(f, "all").POSIX)
}

func TestAShapeFromAFile(t *testing.T) {
	s, err := Read(strings.NewReader(`{"name":"ours","user-classes":["person"],"user-name":["nick"],"uid":"number","group-classes":["crew"],"group-name":["cn"],"gid":"number","members":["holds"]}`), "x.json")
	require.NoError(t, err)
	g := Gather(s, "x", Purposes{}, now)
	require.NoError(t, g.Put(&Entry{DN: "nick=bram", Attrs: Attrs{{"objectclass", []string{"Person"}}, {"nick", []string{"bram"}}, {"number", []string{"7"}}}}))
	require.NoError(t, g.Put(&Entry{DN: "cn=all", Attrs: Attrs{{"objectclass", []string{"crew"}}, {"cn", []string{"all"}}, {"number", []string{"8"}}, {"holds", []string{"NICK=bram"}}}}))
	f, err := g.People()
	require.NoError(t, err)
	require.Equal(t, []string{"bram"}, members(f, "all"))
	for text, want := range map[string]string{
		`{"name":"domain","user-classes":["a"]}`:              "a name of its own",
		`{"name":"x"}`:                                        "neither user-classes",
		`{"name":"x","user-classes":["a"]}`:                   "user-name",
		`{"name":"x","user-classes":["a"],"user-name":["b"]}`: "sid, uid or gid",
		`{"name":"x","users":["a"]}`:                          "unknown field",
	} {
		_, err := Read(strings.NewReader(text), "x.json")
		require.ErrorContains(t, err, want)
	}
}

func TestHowChangesCount(t *testing.T) {
	require.Equal(t, int64(4076), ChangedAs("4076"))
	require.Equal(t, int64(20261126053339), ChangedAs("20261126053339Z"))
	require.Equal(t, int64(20261126053339), ChangedAs("20261126053339.0Z"))
	require.Zero(t, ChangedAs("20261126053339+0100"))
	require.Equal(t, "20261126053339.0Z", AsChanged("modifyTimestamp", 20261126053339))
	require.True(t, later("10", "9"))
	require.False(t, later("20261126053338Z", "20261126053339Z"))
}

// BenchmarkPeople is 100,000 users and 20,000 groups of entries made people of.
func BenchmarkPeople(b *testing.B) {
	s, _ := Named("domain")
	for range b.N {
		g := Gather(s, "x", Purposes{}, time.Now())
		for i := range 100_000 {
			_ = g.Put(&Entry{DN: fmt.Sprintf("CN=User %d,DC=x", i), Attrs: Attrs{{"objectclass", []string{"user"}}, {"samaccountname", []string{fmt.Sprint("u", i)}}, {"objectsid", []string{fmt.Sprintf("S-1-5-21-1-2-3-%d", 1000+i)}}}})
		}
		if _, err := g.People(); err != nil {
			b.Fatal(err)
		}
	}
}
