package cli_test

import (
	"encoding/csv"
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	goldap "github.com/go-ldap/ldap/v3"
	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"

	"tarnwold/internal/cli"
	"tarnwold/internal/proptest"
	"tarnwold/internal/server/ldap/ldaptest"
	"tarnwold/internal/store"
)

// day is an organisation with a directory, an SMB server and a tree of this machine's own, all
// real, in one estate.
type day struct {
	*theatre
	dir  *ldaptest.Server
	root string // of the tree
}

// found is a finding as a program reads it.
type found struct {
	Kind, Where, Account, What string
	Commands                   [][]string
	Tried                      *struct {
		Done       bool
		Gain, Lose []string
	}
}

func (f *found) String() string { return strings.TrimSpace(f.Kind + " " + f.Where + " " + f.Account) }

// findings gives what the estate's findings are, the tree's root left out of what they name.
func (d *day) findings(more ...string) (list []found) {
	var out struct{ Found []found }
	code := 1
	if len(more) > 0 && more[0] == "none" {
		code, more = 0, more[1:]
	}
	require.NoError(d.t, json.Unmarshal([]byte(d.run(code, append([]string{"findings", "--format", "json"}, more...)...)), &out))
	return out.Found
}

func (d *day) names(list []found) (out []string) {
	for _, f := range list {
		s := strings.ReplaceAll(f.String(), d.root, "")
		out = append(out, strings.ReplaceAll(s, filepath.Join(d.s.Dir, "productions"), "/productions"))
	}
	slices.Sort(out)
	return out
}

func (d *day) at(rest string) string { return filepath.Join(d.root, rest) }

func newDay(t *testing.T) *day {
	if os.Geteuid() != 0 {
		t.Skip("SKIPPED: owners are given away by root alone")
	}
	d := &day{theatre: newTheatre(t, nil), dir: ldaptest.Start(t, ldaptest.Certificate{}), root: t.TempDir()}
	person := func(uid string, number, group int, more ...string) []string {
		return append(somebody(uid, number, group), more...)
	}
	boss := "manager=uid=nora," + peopleBase
	d.dir.Add(t, []string{peopleBase, "objectClass=organizationalUnit", "ou=people"}, []string{groups, "objectClass=organizationalUnit", "ou=groups"},
		person("nora", 74001, 75001, "departmentNumber=Rigging", "title=Head of rigging"), person("otto", 74002, 75001, "departmentNumber=Rigging", boss),
		person("silke", 74003, 75001, "departmentNumber=Rigging", boss), person("tamar", 74004, 75002, "departmentNumber=Office"),
		person("ulla", 74005, 75002, "departmentNumber=Office"), person("vito", 74006, 75002, "departmentNumber=Office"),
		[]string{"cn=rigging," + groups, "objectClass=posixGroup", "cn=rigging", "gidNumber=75001"},
		[]string{"cn=office," + groups, "objectClass=posixGroup", "cn=office", "gidNumber=75002"},
		[]string{"cn=acc-plots," + groups, "objectClass=posixGroup", "cn=acc-plots", "gidNumber=75003", "memberUid=otto", "memberUid=nora"},
		[]string{"cn=acc-wages," + groups, "objectClass=posixGroup", "cn=acc-wages", "gidNumber=75004", "memberUid=tamar"})
	t.Setenv("TARNWOLD_PASSWORD_HOUSE", ldaptest.Secret)
	d.run(0, "directory", "add", "house", "--url", d.dir.TLS, "--base", ldaptest.Base, "--user", ldaptest.Manager, "--ca", d.dir.CA, "--shape", "rfc2307", "--access", "acc-*", "--mail", "list-*")
	d.run(0, "directory", "sync", "house", "--yes")

	for p := d.root; p != "/tmp" && p != "/"; p = filepath.Dir(p) {
		require.NoError(t, os.Chmod(p, 0o755))
	}
	for _, x := range []struct {
		path     string
		uid, gid int
		mode     uint32
	}{{"Plots", 0, 75003, 0o2770}, {"Plots/Autumn", 0, 75003, 0o2770}, {"Wages", 0, 75004, 0o2770}, {"people", 0, 0, 0o711},
		{"people/nora", 74001, 75001, 0o700}, {"people/otto", 74002, 75001, 0o700}, {"people/silke", 74003, 75001, 0o700}, {"people/tamar", 74004, 75002, 0o700}} {
		d.make(x.path, x.uid, x.gid, x.mode, true)
	}
	d.make("Plots/Autumn/rig.txt", 74002, 75003, 0o660, false)
	d.make("Wages/may.ods", 74004, 75004, 0o660, false)
	d.make("people/otto/notes.txt", 74002, 75001, 0o600, false)
	d.run(0, "server", "add", "propstore", "--local")
	d.run(0, "scan", "propstore", "--root", d.root, "--yes")
	return d
}

// make makes something on the tree, as somebody else than the estate did.
func (d *day) make(path string, uid, gid int, mode uint32, folder bool) {
	if folder {
		require.NoError(d.t, os.Mkdir(d.at(path), 0o700))
	} else {
		require.NoError(d.t, os.WriteFile(d.at(path), []byte("x"), 0o600))
	}
	require.NoError(d.t, os.Chown(d.at(path), uid, gid))
	require.NoError(d.t, unix.Chmod(d.at(path), mode))
}

// handed is what the top of the server's tree hands down.
const handed = "(A;OICIID;FA;;;{warden})(A;OICIID;0x1200a9;;;{volunteers})"

// settle gives the server's tree rules as they should be.
func (d *day) settle() {
	for _, p := range []string{"Wardrobe", `Wardrobe\Fittings`, "Scripts"} {
		d.give(p, "AI"+handed)
	}
	for _, p := range []string{`Wardrobe\hire list.csv`, `Wardrobe\Fittings\ärger.txt`, `Scripts\prompt book.odt`} {
		d.give(p, "AI"+strings.ReplaceAll(handed, "OICIID", "ID"))
	}
}

// plant does what somebody did who didn't think, on all three, and gives what is to be found.
func (d *day) plant() (want []string) {
	t := d.t
	for _, x := range []struct{ path, rules string }{
		{"Dead", "AI(A;OICI;FR;;;S-1-5-21-9-9-9-9)" + handed},
		{"Dead 2", "AI(D;OICI;FA;;;S-1-5-21-9-9-9-8)" + handed},
		{"Alone", "AI(A;OICI;0x1301bf;;;{ines})" + handed},
		{"Idle", "AI(A;OICI;0x1200a9;;;{volunteers})" + handed},
		{"Deny", "AI(D;OICI;FA;;;{wardrobe})" + handed},
		{"Order", "AI(A;OICI;0x1301bf;;;{volunteers})(D;OICI;0x2;;;{volunteers})" + handed},
		{"Stale", "AI(A;OICIID;FA;;;{warden})"},
		{"Open", "AI(A;OICI;0x1200a9;;;WD)" + handed},
		{"Closed", "PAI(A;OICI;FA;;;{warden})"},
		{"Sewing", "AI(A;OICI;0x1200a9;;;{wardrobe})" + handed},
		{"Stale 2", "AI(A;OICI;0x1301bf;;;{wardrobe})" + handed + "(A;OICIID;0x1200a9;;;{wardrobe})"},
		{"Twice", "AI(A;OICI;0x1301bf;;;{volunteers})(A;OICI;0x1200a9;;;{volunteers})" + handed},
	} {
		require.NoError(t, d.fs.Mkdir(x.path, 0o777))
		d.give(x.path, x.rules)
	}
	for _, x := range []struct {
		path     string
		uid, gid int
		mode     uint32
		folder   bool
	}{{"people/gone", 74004, 75002, 0o700, true}, {"people/ulla", 74005, 75002, 0o755, true}, {"Plots/tool", 74002, 75003, 0o4777, false},
		{"Plots/helper", 0, 75003, 0o4755, false}, {"Wages/odd.txt", 74004, 79999, 0o640, false}, {"Wages/lost.txt", 79998, 75004, 0o640, false},
		{"Wages/vito.txt", 74006, 75004, 0o640, false}, {"Public", 0, 0, 0o777, true}, {"Public/read me.txt", 0, 0, 0o644, false},
		{"Wages/list.txt", 0, 75013, 0o640, false}} {
		d.make(x.path, x.uid, x.gid, x.mode, x.folder)
	}
	require.NoError(t, unix.Chmod(d.at("people/nora"), 0o755))
	days := func(n int) string { return fmt.Sprint(time.Now().Unix()/86400 + int64(n)) }
	d.dir.Change(t, func(c *goldap.Conn) error {
		for who, n := range map[string]int{"vito": -30, "silke": 10} {
			m := goldap.NewModifyRequest("uid="+who+","+peopleBase, nil)
			m.Replace("shadowExpire", []string{days(n)})
			if err := c.Modify(m); err != nil {
				return err
			}
		}
		return nil
	})
	d.dir.Add(t, []string{"cn=acc-none," + groups, "objectClass=posixGroup", "cn=acc-none", "gidNumber=75010"},
		[]string{"cn=acc-idle," + groups, "objectClass=posixGroup", "cn=acc-idle", "gidNumber=75011", "memberUid=ulla"},
		[]string{"cn=acc-twin," + groups, "objectClass=posixGroup", "cn=acc-twin", "gidNumber=75012", "memberUid=tamar"},
		[]string{"cn=list-all," + groups, "objectClass=posixGroup", "cn=list-all", "gidNumber=75013", "memberUid=ulla"},
		[]string{"cn=ring-a," + groups, "objectClass=groupOfNames", "cn=ring-a", "member=cn=ring-b," + groups, "member=uid=otto," + peopleBase},
		[]string{"cn=ring-b," + groups, "objectClass=groupOfNames", "cn=ring-b", "member=cn=ring-a," + groups})
	d.run(0, "directory", "sync", "house", "--yes")
	d.run(0, "scan", "stagedoor", "--yes")
	d.run(0, "scan", "propstore", "--root", d.root, "--yes")
	d.run(0, "level", "add", "adder", "--folder", "read-acl", "--file", "read-acl")
	d.run(0, "mode", "propstore:"+d.at("Plots/Autumn"), "--entry", "user:tamar:r-x", "--yes", "--force")
	return want
}

// planted is what is to be found of that, each with why it is so where that isn't plain.
const planted = `account-ends user silke silke
administrators-alone stagedoor:/productions/Closed
administrators-alone stagedoor:/productions/Stale
dead-identifier stagedoor:/productions/Dead 2 S-1-5-21-9-9-9-8
dead-identifier stagedoor:/productions/Dead S-1-5-21-9-9-9-9
empty-group group acc-none acc-none
group-in-circle group ring-a ring-a
group-unknown propstore:/Wages/odd.txt gid:79999
home-of-nobody propstore:/people/gone tamar
home-open propstore:/people/nora nora
home-open propstore:/people/ulla ulla
idle-deny stagedoor:/productions/Deny wardrobe
idle-entry stagedoor:/productions/Idle volunteers
idle-entry stagedoor:/productions/Order volunteers
idle-entry stagedoor:/productions/Sewing petra
idle-entry stagedoor:/productions/Twice volunteers
last-day-over stagedoor:/productions/Sewing petra
mail-group propstore:/Wages/list.txt list-all
nobody-owns propstore:/Wages/lost.txt uid:79998
open-to-everyone propstore:/Public everyone@
open-to-everyone propstore:/Public/read me.txt everyone@
open-to-everyone stagedoor:/productions/Open everyone@
opens-further stagedoor:/productions/Alone ines
opens-further stagedoor:/productions/Sewing wardrobe
opens-further stagedoor:/productions/Stale 2 wardrobe
out-of-order stagedoor:/productions/Order
out-of-sight //stagedoor/productions wardrobe
owner-left propstore:/Wages/vito.txt vito
runs-as-others propstore:/Plots/tool otto
runs-as-root propstore:/Plots/helper root
single-user propstore:/Plots/Autumn tamar
single-user stagedoor:/productions/Alone ines
single-user stagedoor:/productions/Closed warden
single-user stagedoor:/productions/Sewing petra
stale stagedoor:/productions/Stale
stale stagedoor:/productions/Stale 2
twin-groups group acc-wages acc-wages
unused-group group acc-idle acc-idle
unused-group group acc-twin acc-twin
unused-group group ring-a ring-a
unused-group group ring-b ring-b
unused-level level adder`

// TestADaysWork is what an administrator does in a day, on a real directory, a real server and a
// tree of the machine's own: what is wrong is found and mended, somebody begins, somebody changes
// jobs, somebody leaves.
func TestADaysWork(t *testing.T) {
	proptest.Long(t)
	d := newDay(t)
	d.settle()
	d.run(0, "scan", "stagedoor", "--yes")
	before := d.names(d.findings())
	own := "stagedoor:" + filepath.Join(d.s.Dir, "reading") // as such a server makes a share's folder
	require.Equal(t, []string{"idle-entry " + own + " group:root", "open-to-everyone propstore: everyone@", "open-to-everyone " + own + " everyone@",
		"single-user stagedoor:/productions warden", "single-user " + own + " root", "unused-group group wardrobe wardrobe"}, before)
	d.plant()
	d.run(0, "grant", "petra", "read", "//stagedoor/productions/Sewing", "--until", "2099-01-01", "--model-only", "--yes")
	db := store.Raw("tarnwold.estate")
	_, err := db.Exec("update deadlines set until='2020-01-01'")
	require.NoError(t, err)
	require.NoError(t, db.Close())

	t.Log("all that is wrong is found, and nothing else")
	all := d.findings("--try")
	var got []string
	for _, s := range d.names(all) {
		if !slices.Contains(before, s) {
			got = append(got, s)
		}
	}
	require.Equal(t, strings.Split(planted, "\n"), got)
	gone := slices.DeleteFunc(slices.Clone(before), func(s string) bool { return slices.Contains(d.names(all), s) })
	require.Equal(t, []string{"unused-group group wardrobe wardrobe"}, gone, "what names it now")

	t.Log("each mend does what it is said to do: by asking for each user and each item before and after")
	was, tried := d.access("tarnwold.estate"), 0
	for _, f := range all {
		if f.Tried == nil || !f.Tried.Done {
			continue
		}
		tried++
		if f.Commands[0][1] == "group" && f.Commands[0][2] == "leave" { // the directory's to do: it is written down for it
			ldif := filepath.Join(t.TempDir(), "mend.ldif")
			d.run(0, append(slices.Clone(f.Commands[0][1:]), "--ldif", ldif, "--yes")...)
			require.FileExists(t, ldif)
			continue
		}
		file := filepath.Join(t.TempDir(), "copy.estate")
		d.run(0, "backup", file)
		for _, c := range f.Commands {
			args := append(slices.Clone(c[1:]), "--estate", file)
			if c[1] != "level" {
				args = append(args, "--model-only", "--yes", "--force")
			}
			d.run(0, args...)
		}
		for _, list := range []*[]string{&f.Tried.Gain, &f.Tried.Lose} {
			*list = slices.DeleteFunc(*list, func(who string) bool { return !slices.Contains(asked, who) })
		}
		gain, lose := differ(was, d.access(file))
		require.Equal(t, [2][]string{f.Tried.Gain, f.Tried.Lose}, [2][]string{gain, lose}, "%s: %v", &f, f.Commands)
		for _, o := range d.findings("--estate", file) {
			require.NotEqual(t, f.String()+f.What, o.String()+o.What, "mended by %v", f.Commands)
		}
	}
	require.Greater(t, tried, 20)

	t.Log("somebody begins, changes jobs and leaves; each time the kernel lets them do what the estate says")
	d.dir.Add(t, append(somebody("wim", 74010, 75001), "departmentNumber=Rigging", "manager=uid=nora,"+peopleBase))
	d.run(0, "directory", "sync", "house", "--yes")
	d.asTheKernel("wim", "Public/read me.txt")
	step := func(file string, args ...string) {
		d.run(0, append(args, "--ldif", file, "--yes", "--force")...)
		applyLDIF(t, d.dir, file)
		d.run(0, "directory", "sync", "house", "--yes")
	}
	step("joins.ldif", "joiner", "wim", "--like", "otto")
	d.asTheKernel("wim", "Plots/Autumn/rig.txt", "Public/read me.txt", "Plots/helper", "Plots/tool")
	step("moves.ldif", "mover", "wim", "--like", "tamar")
	d.asTheKernel("wim", "Wages/may.ods", "Wages/vito.txt", "Public/read me.txt", "Wages/lost.txt")
	d.make("Wages/wim's.txt", 74010, 75004, 0o640, false)
	d.run(0, "scan", "propstore", "--root", d.root, "--yes")
	d.run(0, "server", "administrator", "propstore", "warden", "--yes", "--force")
	step("leaves.ldif", "leaver", "wim", "--owner-to", "nora")
	d.asTheKernel("wim", "Public/read me.txt")
	var st unix.Stat_t
	require.NoError(t, unix.Stat(d.at("Wages/wim's.txt"), &st))
	require.EqualValues(t, 74001, st.Uid, "handed on there")
	require.Contains(t, d.run(0, "uses", "wim"), "nothing names wim")
	d.run(0, "check")
}

// asTheKernel holds which files somebody reads on the tree, to the kernel and to the estate: they
// sign on with the groups that the directory has them in.
func (d *day) asTheKernel(who string, want ...string) {
	t := d.t
	var uid, gid uint32
	var in []uint32
	d.dir.Change(t, func(c *goldap.Conn) error {
		number := func(e *goldap.Entry, name string) uint32 {
			n, err := strconv.ParseUint(e.GetAttributeValue(name), 10, 32)
			require.NoError(t, err)
			return uint32(n)
		}
		for _, filter := range []string{"(uid=" + who + ")", "(memberUid=" + who + ")"} {
			r, err := c.Search(goldap.NewSearchRequest(ldaptest.Base, goldap.ScopeWholeSubtree, goldap.NeverDerefAliases, 0, 0, false, filter, nil, nil))
			if err != nil {
				return err
			}
			for _, e := range r.Entries {
				if strings.HasPrefix(filter, "(uid") {
					uid, gid = number(e, "uidNumber"), number(e, "gidNumber")
				} else {
					in = append(in, number(e, "gidNumber"))
				}
			}
		}
		return nil
	})
	require.NotZero(t, uid)
	var reads, said []string
	require.NoError(t, filepath.WalkDir(d.root, func(path string, e os.DirEntry, err error) error {
		if err != nil || e.IsDir() {
			return err
		}
		c := exec.Command("/bin/cat", path)
		c.SysProcAttr = &syscall.SysProcAttr{Credential: &syscall.Credential{Uid: uid, Gid: gid, Groups: in}}
		rest := strings.TrimPrefix(path, d.root+"/")
		if c.Run() == nil {
			reads = append(reads, rest)
		}
		d.out.Reset()
		switch code := cli.Main([]string{"try", who, "read", "propstore:" + path}, strings.NewReader(""), &d.out, &d.out); code {
		case 0:
			said = append(said, rest)
		case 1:
		default:
			t.Fatal(d.out.String())
		}
		return nil
	}))
	require.Equal(t, reads, said, "%s, by the kernel and by the estate", who)
	require.ElementsMatch(t, want, reads, who)
}

// asked are the people who aren't the machine's own.
var asked = []string{"bram", "ines", "petra", "nora", "otto", "silke", "tamar", "ulla", "vito"}

// access asks, for each user and each item, what they may do by each route.
func (d *day) access(file string) map[string]uint32 {
	t := d.t
	rows := func(args ...string) [][]string {
		list, err := csv.NewReader(strings.NewReader(d.run(0, append(args, "--estate", file, "--format", "csv")...))).ReadAll()
		require.NoError(t, err)
		return list[1:]
	}
	var ask strings.Builder
	ask.WriteString("user,where\n")
	for _, top := range []string{"stagedoor:" + filepath.Join(d.s.Dir, "productions"), "stagedoor:" + filepath.Join(d.s.Dir, "reading"), "propstore:" + d.root} {
		server, root, _ := strings.Cut(top, ":")
		require.NoError(t, filepath.WalkDir(root, func(path string, _ os.DirEntry, err error) error {
			for _, u := range asked {
				fmt.Fprintf(&ask, "%s,%q\n", u, server+":"+path)
			}
			return err
		}))
	}
	require.NoError(t, os.WriteFile("ask.csv", []byte(ask.String()), 0o600))
	out := map[string]uint32{}
	for _, r := range rows("explain", "--from", "ask.csv") {
		n, err := strconv.ParseUint(strings.TrimPrefix(r[3], "0x"), 16, 32)
		require.NoError(t, err, "%v", r)
		out[strings.Join(r[:3], "\x00")] = uint32(n)
	}
	return out
}

// differ gives who may do more somewhere, and who less.
func differ(was, is map[string]uint32) (gain, lose []string) {
	gain, lose = []string{}, []string{}
	for k, a := range was {
		who, _, _ := strings.Cut(k, "\x00")
		if b := is[k]; b&^a != 0 && !slices.Contains(gain, who) {
			gain = append(gain, who)
		}
		if b := is[k]; a&^b != 0 && !slices.Contains(lose, who) {
			lose = append(lose, who)
		}
	}
	slices.Sort(gain)
	slices.Sort(lose)
	return gain, lose
}
