//go:build unix

package cli_test

import (
	"bytes"
	"context"
	"encoding/hex"
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"syscall"
	"testing"
	"time"

	smb2 "github.com/cloudsoda/go-smb2"
	"github.com/stretchr/testify/require"

	"tarnwold/core/account"
	"tarnwold/core/right"
	"tarnwold/core/rule"
	"tarnwold/core/rule/sddl"
	"tarnwold/core/rule/secdesc"
	"tarnwold/internal/cli"
	"tarnwold/internal/estate"
	"tarnwold/internal/live"
	"tarnwold/internal/plan"
	"tarnwold/internal/plan/intake"
	"tarnwold/internal/plan/saved"
	"tarnwold/internal/proptest"
	"tarnwold/internal/server"
	"tarnwold/internal/server/smb"
	"tarnwold/internal/server/smb/smbtest"
)

// theatre is a real server with a small tree, and an estate linked to it in
// the folder the test stands in.
type theatre struct {
	t   *testing.T
	s   *smbtest.Server
	fs  *smb2.Share // as the administrator
	ids map[string]account.ID
	out bytes.Buffer
}

func newTheatre(t *testing.T, more func(fs *smb2.Share)) *theatre { return newTheatreOf(t, "", more) }

// newTheatreOf has more lines in the configuration of its share.
func newTheatreOf(t *testing.T, lines string, more func(fs *smb2.Share)) *theatre {
	users := []string{"warden", "bram", "ines", "petra"}
	h := &theatre{t: t, s: smbtest.Start(t, smbtest.Config{Users: users,
		Groups: map[string][]string{"wardrobe": {"bram", "ines"}, "volunteers": {"petra"}},
		Shares: map[string]string{"productions": lines, "reading": ""}}), ids: map[string]account.ID{}}
	h.fs = h.mount("warden", "productions")
	live, err := smb.Dial(context.Background(), smb.Link{Host: "127.0.0.1", Port: h.s.Port, User: "warden"}, smb.Secret{Password: smbtest.Password("warden")})
	require.NoError(t, err)
	defer live.Close()
	all, _, err := live.Accounts(context.Background())
	require.NoError(t, err)
	for _, a := range all {
		h.ids[a.Name] = a.ID
	}
	h.give("", "PAI(A;OICI;FA;;;{warden})(A;OICI;0x1200a9;;;{volunteers})")
	for _, d := range []string{"Wardrobe", `Wardrobe\Fittings`, "Scripts"} {
		require.NoError(t, h.fs.Mkdir(d, 0o777))
	}
	for _, f := range []string{`Wardrobe\hire list.csv`, `Wardrobe\Fittings\ärger.txt`, `Scripts\prompt book.odt`} {
		require.NoError(t, h.fs.WriteFile(f, []byte("x"), 0o644))
	}
	if more != nil {
		more(h.fs)
	}
	t.Chdir(t.TempDir())
	t.Setenv("TARNWOLD_PASSWORD", smbtest.Password("warden"))
	h.run(0, "init")
	h.run(0, "server", "add", "stagedoor", "--smb", fmt.Sprintf("127.0.0.1:%d", h.s.Port), "--user", "warden")
	h.run(0, "scan", "stagedoor")
	h.run(0, "load", "accounts", "--passwd", filepath.Join(h.s.Dir, "passwd"), "--group", filepath.Join(h.s.Dir, "group"), "--yes")
	h.run(0, "server", "administrator", "stagedoor", "warden", "--yes", "--force")
	return h
}

func (h *theatre) mount(user, share string) *smb2.Share {
	d := &smb2.Dialer{Initiator: &smb2.NTLMInitiator{User: user, Password: smbtest.Password(user)}}
	c, err := d.Dial(context.Background(), fmt.Sprintf("127.0.0.1:%d", h.s.Port))
	require.NoError(h.t, err)
	h.t.Cleanup(func() { _ = c.Logoff() })
	fs, err := c.Mount(share)
	require.NoError(h.t, err)
	return fs
}

// give gives an item rules on the server, behind the estate's back.
func (h *theatre) give(path, text string) {
	for name, id := range h.ids {
		text = strings.ReplaceAll(text, "{"+name+"}", id.String())
	}
	d, err := sddl.Parse("D:"+text, account.ID{})
	require.NoError(h.t, err)
	b, err := secdesc.Encode(d)
	require.NoError(h.t, err)
	require.NoError(h.t, h.fs.SetSecurityInfoRaw(path, smb2.DACLSecurityInformation, raw(b)))
}

const ownersAndRules = smb2.OwnerSecurityInformation | smb2.GroupSecurityInformation | smb2.DACLSecurityInformation

// bytes gives the descriptors the server has, as it gives them.
func (h *theatre) bytes(paths ...string) map[string]string {
	out := map[string]string{}
	for _, p := range paths {
		b, err := h.fs.SecurityInfoRaw(p, ownersAndRules)
		require.NoError(h.t, err)
		out[p] = hex.EncodeToString(b)
	}
	return out
}

func (h *theatre) run(want int, args ...string) string {
	h.out.Reset()
	require.Equal(h.t, want, cli.Main(append(args, "--as", "warden"), strings.NewReader(""), &h.out, &h.out), "%s\n%s", args, h.out.String())
	return h.out.String()
}

// kept gives the number a change was kept as.
func kept(t *testing.T, said string) string {
	m := regexp.MustCompile(`Kept as change (\d+)\.`).FindStringSubmatch(said)
	require.NotNil(t, m, said)
	return m[1]
}

var inTheTheatre = []string{"", "Wardrobe", `Wardrobe\Fittings`, "Scripts", `Wardrobe\hire list.csv`, `Wardrobe\Fittings\ärger.txt`, `Scripts\prompt book.odt`}

// TestChangesGoToTheServer: a change is written to the server, with all that
// follows below, and undoing it puts the very bytes back.
func TestChangesGoToTheServer(t *testing.T) {
	h := newTheatre(t, nil)
	was := h.bytes(inTheTheatre...)
	said := h.run(0, "grant", "wardrobe", "edit", "//stagedoor/productions/Wardrobe", "--yes")
	require.Contains(t, said, "This goes to the real server stagedoor: 4 descriptors.")
	numbers := []string{kept(t, said)}
	h.run(0, "drift", "stagedoor")
	is := h.bytes(inTheTheatre...)
	require.Equal(t, was["Scripts"], is["Scripts"])
	require.NotEqual(t, was[`Wardrobe\Fittings\ärger.txt`], is[`Wardrobe\Fittings\ärger.txt`])
	bram := h.mount("bram", "productions")
	require.NoError(t, bram.WriteFile(`Wardrobe\Fittings\ärger.txt`, []byte("bram was here"), 0o644))
	_, err := bram.ReadFile(`Scripts\prompt book.odt`)
	require.ErrorContains(t, err, "denied")

	// Looking writes nothing; what is owned, sealed and denied goes there too.
	h.run(0, "deny", "petra", "read", "//stagedoor/productions/Scripts", "--dry-run")
	h.run(0, "drift", "stagedoor")
	changes := [][]string{
		{"deny", "petra", "read", "//stagedoor/productions/Scripts", "--yes", "--force"},
		{"owner", "//stagedoor/productions/Wardrobe/Fittings", "--to", "ines", "--yes"},
		{"seal", "//stagedoor/productions/Wardrobe/Fittings", "--keep", "--yes"},
		{"revoke", "wardrobe", "//stagedoor/productions/Wardrobe", "--yes"},
		{"unseal", "//stagedoor/productions/Wardrobe/Fittings", "--yes"},
		{"grant", "volunteers", "read", "//stagedoor/productions", "--share", "--yes"},
	}
	for _, c := range changes {
		said := h.run(0, c...)
		require.Contains(t, said, "This goes to the real server", c)
		numbers = append(numbers, kept(t, said))
		require.Contains(t, h.run(0, "drift", "stagedoor"), "stagedoor is as the estate has it", c)
	}
	h.run(0, "check")
	// Audit entries take a privilege that the account hasn't: told, and nothing is written.
	was2 := h.bytes(inTheTheatre...)
	said = h.run(3, "watch", "volunteers", "read", "//stagedoor/productions/Scripts", "--yes")
	require.Contains(t, said, "it takes a privilege that the user doesn't have, as audit entries do")
	require.Equal(t, was2, h.bytes(inTheTheatre...))
	require.Contains(t, h.run(2, "resume"), "no change is unfinished")

	// Somebody else changes one item there: nothing is written.
	now := h.bytes(inTheTheatre...)
	h.give(`Wardrobe\hire list.csv`, "PAI(A;;FA;;;{warden})")
	other := h.bytes(inTheTheatre...)
	said = h.run(3, "grant", "ines", "read", "//stagedoor/productions/Wardrobe", "--yes")
	require.Contains(t, said, "has other rules on the server than in the estate: somebody changed it there, and nothing was written; tarnwold scan stagedoor takes that in")
	require.Equal(t, other, h.bytes(inTheTheatre...))
	said = h.run(0, "scan", "stagedoor", "--yes")
	require.Contains(t, said, "1 item changed rules")
	h.run(0, "undo", kept(t, said), "--yes") // what somebody else did is taken back there
	require.Equal(t, now, h.bytes(inTheTheatre...))

	// What is made and moved is made and moved on the server itself.
	require.Contains(t, h.run(2, "put", "//stagedoor/productions/Wardrobe", "new", "--folder", "--owner", "warden", "--yes"), "files and folders are made, moved and removed on the real server stagedoor, which isn't done from here")
	require.Contains(t, h.run(2, "share", "remove", "//stagedoor/reading", "--yes"), "with --model-only")
	said = h.run(0, "grant", "ines", "read", "//stagedoor/productions/Scripts", "--model-only", "--yes")
	require.Contains(t, h.run(1, "drift", "stagedoor"), "allow ines read tree")
	h.run(0, "undo", kept(t, said), "--model-only", "--yes")

	// Every change taken back, the last first: the very bytes.
	slices.Reverse(numbers)
	for _, n := range numbers {
		h.run(0, "undo", n, "--yes", "--force")
	}
	require.Equal(t, was, h.bytes(inTheTheatre...))
	h.run(0, "drift", "stagedoor")
	h.run(0, "check")
}

// TestBrokenOffOnTheServer: a change over many items, killed at any moment, is
// as before or can be finished or taken back: whole, on the server and here.
func TestBrokenOffOnTheServer(t *testing.T) {
	proptest.Long(t)
	items := 200
	if s := os.Getenv("TARNWOLD_BROKEN_OFF_ITEMS"); s != "" {
		_, err := fmt.Sscan(s, &items)
		require.NoError(t, err)
	}
	newTheatre(t, func(fs *smb2.Share) {
		for i := range items / 20 {
			d := fmt.Sprintf(`Scripts\act %d`, i)
			require.NoError(t, fs.Mkdir(d, 0o777))
			for k := range 19 {
				require.NoError(t, fs.WriteFile(fmt.Sprintf(`%s\scene %d.txt`, d, k), nil, 0o644))
			}
		}
	})
	prog := program(t)
	dir, err := os.Getwd()
	require.NoError(t, err)
	args := []string{"grant", "wardrobe", "read", "//stagedoor/productions/Scripts", "--yes", "--as", "warden"}
	began := time.Now()
	said := must(t, dir, prog, args...)
	took := time.Since(began)
	must(t, dir, prog, "undo", kept(t, said), "--yes", "--as", "warden")
	must(t, dir, prog, "drift", "stagedoor")

	was := map[string]int{}
	moments := many(t, 50, 8)
	for i := 0; i < moments || was["finished"]+was["taken back"] == 0 && i < 60; i++ {
		head := len(strings.Split(must(t, dir, prog, "log", "--format", "csv"), "\n")) - 2
		c := exec.Command(prog, args...)
		c.Dir = dir
		var out bytes.Buffer
		c.Stdout, c.Stderr = &out, &out
		require.NoError(t, c.Start())
		time.Sleep(time.Duration(float64(took) * (0.1 + 0.9*rand.Float64())))
		if i%3 == 0 { // asked to stop, it says how things stand
			_ = c.Process.Signal(syscall.SIGINT)
		} else {
			_ = c.Process.Kill()
		}
		_ = c.Wait()
		stands := resumeShow(t, dir, prog)
		if i%3 == 0 {
			switch said := out.String(); {
			case strings.Contains(said, "Kept as change"), strings.Contains(said, "nothing was changed"):
				require.Contains(t, stands, "no change is unfinished", said)
			case strings.Contains(said, "broken off"):
				was["broken off by a signal"]++
				require.Contains(t, said, "tarnwold resume finishes it, tarnwold undo takes it back")
				require.Contains(t, stands, "unfinished")
			default:
				require.Contains(t, stands, "no change is unfinished", said)
			}
		}
		if !strings.Contains(resumeShow(t, dir, prog), "no change is unfinished") {
			// While it is unfinished nothing else is taken.
			no := exec.Command(prog, "group", "add", "gaffers")
			no.Dir = dir
			text, err := no.CombinedOutput()
			require.Error(t, err)
			require.Contains(t, string(text), "takes no other until it is finished")
			if i%2 == 0 {
				was["finished"]++
				must(t, dir, prog, "resume")
			} else {
				was["taken back"]++
				must(t, dir, prog, "undo")
			}
		}
		must(t, dir, prog, "drift", "stagedoor") // one is as the other, everywhere
		now := len(strings.Split(must(t, dir, prog, "log", "--format", "csv"), "\n")) - 2
		if now > head {
			was["kept"]++
			must(t, dir, prog, "undo", fmt.Sprint(now), "--yes", "--as", "warden")
			must(t, dir, prog, "drift", "stagedoor")
		}
		must(t, dir, prog, "check")
	}
	t.Logf("%d items, %d moments within %v: %v", items, moments, took, was)
	require.NotZero(t, was["finished"]+was["taken back"])
}

func resumeShow(t *testing.T, dir, prog string) string {
	c := exec.Command(prog, "resume", "--show")
	c.Dir = dir
	out, _ := c.CombinedOutput()
	return string(out)
}

// TestAskedLive: with --live the server is asked now, for the item and the
// folders above; where the estate has something else it is said, and kept is
// nothing.
func TestAskedLive(t *testing.T) {
	h := newTheatre(t, nil)
	h.run(1, "explain", "bram", "//stagedoor/productions/Scripts/prompt book.odt")
	h.give("Scripts", "PAI(A;OICI;FA;;;{warden})(A;OICI;0x1200a9;;;{wardrobe})")
	h.give(`Scripts\prompt book.odt`, "AI(A;ID;FA;;;{warden})(A;ID;0x1200a9;;;{wardrobe})")
	h.run(1, "explain", "bram", "//stagedoor/productions/Scripts/prompt book.odt")
	said := h.run(0, "explain", "bram", "//stagedoor/productions/Scripts/prompt book.odt", "--live")
	for _, want := range []string{"as the real server has it now", "has other rules", "allow wardrobe read tree", "allow volunteers read", "can open"} {
		require.Contains(t, said, want)
	}
	h.run(0, "try", "bram", "open-read", "//stagedoor/productions/Scripts/prompt book.odt", "--live")
	h.run(1, "try", "bram", "open-write", "//stagedoor/productions/Scripts/prompt book.odt", "--live")
	require.Contains(t, h.run(0, "show", "//stagedoor/productions/Scripts", "--live"), "allow wardrobe read")
	require.NoError(t, h.fs.WriteFile(`Scripts\new.odt`, nil, 0o644))
	require.Contains(t, h.run(0, "show", "//stagedoor/productions/Scripts/new.odt", "--live"), "is new")
	h.run(1, "try", "bram", "create", "//stagedoor/productions/Scripts/mine.odt", "--live")
	h.give("Scripts", "PAI(A;OICI;FA;;;{warden})(A;OICI;0x1301bf;;;{wardrobe})")
	h.run(0, "try", "bram", "create", "//stagedoor/productions/Scripts/mine.odt", "--live")
	h.run(1, "try", "bram", "create", "//stagedoor/productions/Scripts/mine.odt")
	require.Contains(t, h.run(2, "show", "//stagedoor/nowhere/x", "--live"), "there is no share \"nowhere\" in the real server stagedoor")
	require.Contains(t, h.run(2, "show", "//stagedoor/productions/Scripts", "--live", "--when", "2026-01-01"), "take one of them")
	// Data stays data: what is said beside it goes elsewhere.
	var out, errs bytes.Buffer
	require.Equal(t, 0, cli.Main([]string{"explain", "bram", "//stagedoor/productions/Scripts", "--live", "--format", "csv"}, strings.NewReader(""), &out, &errs), errs.String())
	require.NotContains(t, out.String(), "has other rules")
	require.Contains(t, errs.String(), "has other rules")
	require.Contains(t, h.run(1, "drift", "stagedoor"), "is new", "nothing was kept")
}

// TestWhereMembersAreKept: who is in a group by a real server's system is changed in the
// estate alone, and that is said; who is by the server's own list is changed there; of a
// group of elsewhere neither is.
func TestWhereMembersAreKept(t *testing.T) {
	h := newTheatre(t, nil)
	const note, goes = "Note: who is in volunteers changes in the estate alone; stagedoor goes by what it has itself, until it is done there too.", "This goes to the real server stagedoor: 1 membership."
	said := h.run(0, "group", "join", "wardrobe", "petra", "--yes", "--force")
	require.Contains(t, said, goes)
	require.NotContains(t, said, "Note: who is in")
	said = h.run(0, "strip", "petra", "--dry-run")
	require.Contains(t, said, note)
	require.Contains(t, said, goes)
	h.run(0, "scan", "stagedoor")
	said = h.run(0, "group", "leave", "volunteers", "petra", "--yes", "--force")
	require.Contains(t, said, note)
	require.NotContains(t, said, goes)
	said = h.run(0, "undo", kept(t, said), "--yes")
	require.Contains(t, said, note)
	require.NotContains(t, said, goes)
	said = h.run(0, "group", "leave", "wardrobe", "petra", "--yes", "--force", "--format", "json")
	require.NotContains(t, said, `"in-the-estate-alone"`)
	require.Contains(t, said, `"written-to"`)
	h.run(0, "scan", "stagedoor")
	h.run(0, "group", "add", "ushers", "--id", "7001", "--sid", "S-1-5-21-9-9-9-7001")
	require.NotContains(t, h.run(0, "group", "join", "ushers", "petra", "--yes", "--force"), "Note: who is in")
	require.NotContains(t, h.run(0, "grant", "wardrobe", "read", "//stagedoor/productions/Scripts", "--dry-run"), "Note: who is in")
}

// TestProved: answers are held to what the server lets test accounts open, and
// a difference is found.
func TestProved(t *testing.T) {
	h := newTheatre(t, nil)
	file := "user,password\n"
	for _, u := range []string{"bram", "ines", "petra", "warden"} {
		file += u + "," + smbtest.Password(u) + "\n"
	}
	require.NoError(t, os.WriteFile("testers.csv", []byte(file), 0o644))
	prove := func(want int, more ...string) string {
		h.out.Reset()
		require.Equal(t, want, cli.Main(append([]string{"prove", "stagedoor", "--as", "testers.csv"}, more...), strings.NewReader(""), &h.out, &h.out), h.out.String())
		return h.out.String()
	}
	require.Contains(t, prove(2), "chmod 600")
	require.NoError(t, os.Chmod("testers.csv", 0o600))
	before := h.bytes(inTheTheatre...)
	said := prove(0)
	require.Regexp(t, `stagedoor was asked as bram, ines, petra, warden on 8 items: 2\d\d acts tried, \d+ of them allowed`, said)
	require.Contains(t, said, "Every answer is the server's.")
	require.Equal(t, before, h.bytes(inTheTheatre...), "no trace")
	prove(0, "--format", "json", "--items", "2") // held to its schema
	h.give(`Scripts\prompt book.odt`, "PAI(A;;FA;;;{warden})(A;;0x1200a9;;;{ines})")
	said = prove(1, "--under", "//stagedoor/productions/Scripts", "--format", "csv", "--report", "report.json")
	report, err := os.ReadFile("report.json")
	require.NoError(t, err)
	require.Contains(t, string(report), `"traits-set": "smb"`)
	require.Contains(t, string(report), `"status": "the user may not"`)
	for _, name := range []string{"ines", "petra", "warden", "stagedoor", "Scripts", "prompt", "productions"} {
		require.NotContains(t, string(report), name)
	}
	require.Contains(t, said, "ines,read,//stagedoor/productions/Scripts/prompt book.odt,can't,can,")
	require.Contains(t, said, "petra,read,//stagedoor/productions/Scripts/prompt book.odt,can,can't,the user may not")
	require.NotContains(t, said, "warden,")
	// What was seen is found until a proof sees it no more.
	found := h.run(1, "findings", "--kind", "otherwise-there", "--format", "csv")
	require.Contains(t, found, "user ines may read //stagedoor/productions/Scripts/prompt book.odt there; the estate says that they may not")
	require.Contains(t, found, "user petra may not read //stagedoor/productions/Scripts/prompt book.odt there; the estate says that they may")
	h.run(0, "scan", "stagedoor", "--yes", "--force")
	prove(0)
	h.run(0, "findings", "--kind", "otherwise-there")
	require.NoError(t, os.WriteFile("testers.csv", []byte("user,password\nbram,not that\n"), 0o600))
	require.Contains(t, prove(3), "as bram: 127.0.0.1:"+fmt.Sprint(h.s.Port)+" refused the sign-on: the user's name or password is wrong")
	require.NoError(t, os.WriteFile("testers.csv", []byte("bram,x\n"), 0o600))
	require.Contains(t, prove(3), "testers.csv: line 1: wanted the columns user,password")
}

// outbound works a plan out, what it has to write to real servers, and the plan as it is
// put down meanwhile.
func outbound(t *testing.T, e *estate.Estate, shown string, build func(*plan.Planner) (*plan.Plan, error)) (p *plan.Plan, out []plan.Outbound, put []byte) {
	t.Helper()
	require.NoError(t, e.View(context.Background(), func(tx *estate.Tx) (err error) {
		k := plan.New(tx, "warden")
		if p, err = build(k); err != nil {
			return err
		}
		if out, err = k.Outbound(p); err == nil {
			put, err = saved.Save(k, p, shown)
		}
		return err
	}))
	return p, out, put
}

// TestWhatTheServerMakesOfIt: where a server takes rules and then has others,
// that is found by reading them back; all that was written is taken back.
func TestWhatTheServerMakesOfIt(t *testing.T) {
	h := newTheatre(t, nil)
	was := h.bytes(inTheTheatre...)
	ctx := context.Background()
	e, err := estate.Open(ctx, "tarnwold.estate")
	require.NoError(t, err)
	defer e.Close()
	p, out, put := outbound(t, e, "lay", func(k *plan.Planner) (*plan.Plan, error) {
		var items []intake.Found
		for i, path := range []string{"", "/Wardrobe", "/Scripts/prompt book.odt"} {
			s, err := k.T.Server("stagedoor")
			require.NoError(t, err)
			at, err := k.T.At(s, filepath.Join(h.s.Dir, "productions")+path)
			require.NoError(t, err)
			d := k.T.Of(at.Strand).Listed().Clone()
			d.Rules.Entries = append(d.Rules.Entries, rule.Entry{Kind: rule.Allow, Who: h.ids["ines"], Rights: []right.Set{right.ReadData, right.ReadData, right.GenericRead}[i]}) // which a server maps
			items = append(items, intake.Found{Path: at.Path, Folder: at.Folder, Rules: d})
		}
		return intake.Lay(k, "stagedoor", items)
	})
	u := &live.Push{Estate: e, Dial: func(ctx context.Context, _ string) (server.Server, error) {
		return smb.Dial(ctx, smb.Link{Host: "127.0.0.1", Port: h.s.Port, User: "warden"}, smb.Secret{Password: smbtest.Password("warden")})
	}}
	_, err = u.Keep(ctx, p, put, p.Meta("lay"), out)
	var back *live.Back
	require.ErrorAs(t, err, &back)
	require.Contains(t, err.Error(), "the server took it and has something else now; what had been written is taken back, and nothing was kept")
	require.Equal(t, "stagedoor:"+filepath.Join(h.s.Dir, "productions")+"/Scripts/prompt book.odt", back.Where)
	after := h.bytes(inTheTheatre...)
	require.Equal(t, was, after)
	require.Contains(t, h.run(2, "resume", "--show"), "no change is unfinished")
}
