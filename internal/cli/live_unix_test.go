//go:build unix

package cli_test

import (
	"bytes"
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	smb2 "github.com/cloudsoda/go-smb2"
	"github.com/stretchr/testify/require"

	"tarnwold/core/account"
	"tarnwold/core/rule/sddl"
	"tarnwold/core/rule/secdesc"
	"tarnwold/internal/cli"
	"tarnwold/internal/cli/run"
	"tarnwold/internal/server/smb"
	"tarnwold/internal/server/smb/smbtest"
)

// raw is a descriptor in its binary form, as the library wants to have it.
type raw []byte

func (r raw) Encode(to []byte) { copy(to, r) }
func (r raw) Size() int        { return len(r) }

// TestScanIsWhatTheServerHas: from a real server to answers, each held to what
// the server itself lets each user do.
func TestScanIsWhatTheServerHas(t *testing.T) {
	users := []string{"warden", "bram", "ines", "petra"}
	s := smbtest.Start(t, smbtest.Config{
		Users:  users,
		Groups: map[string][]string{"wardrobe": {"bram", "ines"}, "volunteers": {"petra"}},
		Shares: map[string]string{"productions": "", "reading": "read only = yes"},
	})
	ctx := context.Background()
	mounts := map[string]*smb2.Share{}
	for _, user := range users {
		d := &smb2.Dialer{Initiator: &smb2.NTLMInitiator{User: user, Password: smbtest.Password(user)}}
		c, err := d.Dial(ctx, fmt.Sprintf("127.0.0.1:%d", s.Port))
		require.NoError(t, err)
		t.Cleanup(func() { _ = c.Logoff() })
		mounts[user], err = c.Mount("productions")
		require.NoError(t, err)
	}
	live, err := smb.Dial(ctx, smb.Link{Host: "127.0.0.1", Port: s.Port, User: "warden"}, smb.Secret{Password: smbtest.Password("warden")})
	require.NoError(t, err)
	defer live.Close()
	all, _, err := live.Accounts(ctx)
	require.NoError(t, err)
	ids := map[string]account.ID{}
	for _, a := range all {
		ids[a.Name] = a.ID
	}

	// A small tree with rules of every sort, written by the administrator.
	fs := mounts["warden"]
	places := []struct{ path, rules string }{
		{"", "PAI(A;OICI;FA;;;{warden})(A;;0x1200a9;;;WD)"},
		{"Wardrobe", "PAI(A;OICI;FA;;;{warden})(A;OICI;0x1301bf;;;{wardrobe})"},
		{"Wardrobe/measurements.ods", ""},
		{"Wardrobe/ärger, list.csv", "PAI(A;;FR;;;{ines})(A;;FA;;;{warden})"},
		{"Scripts", "PAI(A;OICI;FA;;;{warden})(D;OICI;FA;;;{volunteers})(A;OICI;0x1200a9;;;WD)"},
		{"Scripts/prompt book.odt", ""},
		{"Box Office", "PAI(A;OICI;FA;;;{warden})(A;OICI;0x1200a9;;;{petra})(A;OIIO;FW;;;{petra})"},
		{"Box Office/ledger.ods", ""},
		{"Box Office/closed.ods", "P"},
		{"Lighting", "PAI(A;OICI;FA;;;{warden})(A;OICI;0x100116;;;{bram})"},
		{"Lighting/cues.txt", ""},
	}
	for _, p := range places {
		native := strings.ReplaceAll(p.path, "/", `\`)
		switch {
		case p.path == "":
		case strings.Contains(filepath.Base(p.path), "."):
			require.NoError(t, fs.WriteFile(native, []byte("x"), 0o644))
		default:
			require.NoError(t, fs.Mkdir(native, 0o777))
		}
		if p.rules == "" {
			continue
		}
		text := p.rules
		for name, id := range ids {
			text = strings.ReplaceAll(text, "{"+name+"}", id.String())
		}
		d, err := sddl.Parse("D:"+text, account.ID{})
		require.NoError(t, err, text)
		b, err := secdesc.Encode(d)
		require.NoError(t, err)
		require.NoError(t, fs.SetSecurityInfoRaw(native, smb2.DACLSecurityInformation, raw(b)), p.path)
	}

	t.Chdir(t.TempDir())
	t.Setenv("TARNWOLD_PASSWORD_STAGEDOOR", smbtest.Password("warden"))
	var out bytes.Buffer
	runs := func(want int, args ...string) string {
		out.Reset()
		require.Equal(t, want, cli.Main(args, strings.NewReader(""), &out, &out), "%s\n%s", args, out.String())
		return out.String()
	}
	runs(0, "init")
	runs(0, "server", "add", "stagedoor", "--smb", fmt.Sprintf("127.0.0.1:%d", s.Port), "--user", "warden")
	require.Contains(t, runs(0, "server", "test", "stagedoor"), "yes    shares seen")
	require.Contains(t, runs(0, "server", "show", "stagedoor"), fmt.Sprintf("a real server, over smb: 127.0.0.1, port %d, as warden", s.Port))
	said := runs(0, "scan", "stagedoor")
	require.Contains(t, said, "5 folders and 6 files")
	require.Contains(t, said, "The server doesn't list the members of its groups")
	require.NotContains(t, runs(0, "scan", "stagedoor"), "Kept", "nothing is otherwise")
	require.Regexp(t, `//stagedoor/reading +\S+ +yes`, runs(0, "share", "list"), "the switch is seen")
	require.Regexp(t, `//stagedoor/productions +\S+ +no`, out.String())
	runs(0, "load", "accounts", "--passwd", filepath.Join(s.Dir, "passwd"), "--group", filepath.Join(s.Dir, "group"), "--yes")
	runs(0, "server", "administrator", "stagedoor", "warden", "--yes", "--force")
	runs(0, "check")

	// What the server lets each of them do, and what try says of it.
	tried := map[string]int{}
	for _, user := range users {
		for _, p := range places {
			if !strings.Contains(filepath.Base(p.path), ".") {
				continue
			}
			native := strings.ReplaceAll(p.path, "/", `\`)
			for act, flag := range map[string]int{"open-read": os.O_RDONLY, "open-write": os.O_WRONLY} {
				f, err := mounts[user].OpenFile(native, flag, 0o644)
				want := run.ExitDone
				if err != nil {
					require.ErrorContains(t, err, "denied", p.path)
					want = run.ExitNo
				} else {
					require.NoError(t, f.Close())
				}
				runs(want, "try", user, act, "//stagedoor/productions/"+p.path)
				tried[fmt.Sprint(act, " ", want == run.ExitDone)]++
			}
		}
	}
	t.Log(tried)
	for _, what := range []string{"open-read true", "open-read false", "open-write true", "open-write false"} {
		require.Greater(t, tried[what], 2, what)
	}
	// What is otherwise afterwards, on either side.
	require.Contains(t, runs(0, "drift", "stagedoor"), "stagedoor is as the estate has it: 12 items alike")
	d, err := sddl.Parse("D:PAI(A;OICI;FA;;;"+ids["warden"].String()+")(A;OICI;0x1200a9;;;"+ids["ines"].String()+")", account.ID{})
	require.NoError(t, err)
	b, err := secdesc.Encode(d)
	require.NoError(t, err)
	require.NoError(t, fs.SetSecurityInfoRaw("Scripts", smb2.DACLSecurityInformation, raw(b)))
	require.NoError(t, fs.WriteFile(`Lighting\new.txt`, nil, 0o644))
	require.NoError(t, fs.Remove(`Box Office\ledger.ods`))
	said = runs(1, "drift", "stagedoor", "--format", "csv")
	for _, line := range []string{`/Lighting/new\.txt,came,2\d+-\S+Z,,`, `/Box Office/ledger\.ods,went,,,`, `/Scripts,rules,2\S+Z,comes,allow ines read tree`, `/Scripts,rules,2\S+Z,goes,deny volunteers full tree`} {
		require.Regexp(t, line, said)
	}
	require.NotContains(t, said, "/Wardrobe")
	require.Contains(t, runs(1, "drift", "stagedoor"), "has other rules")

	// A second scan keeps what is otherwise, and nothing else.
	said = runs(0, "scan", "stagedoor", "--report-only")
	require.Contains(t, said, "Since the scan of ")
	require.Contains(t, said, "deny volunteers full tree")
	require.Contains(t, said, "Nothing was kept: this only reports.")
	runs(1, "drift", "stagedoor")
	require.Contains(t, runs(2, "scan", "stagedoor"), "there is no terminal to ask at")
	said = runs(0, "scan", "stagedoor", "--yes")
	require.Contains(t, said, "scan of stagedoor: 1 item changed rules, none by Tarnwold")
	require.Contains(t, said, "scan of stagedoor: 1 item came, 1 went")
	require.Contains(t, runs(0, "drift", "stagedoor"), "12 items alike")
	runs(0, "check")
	runs(0, "check")
	runs(0, "server", "remove", "stagedoor", "--dry-run")
	// The password stands nowhere.
	for _, name := range []string{"tarnwold.estate"} {
		text, err := os.ReadFile(name)
		require.NoError(t, err)
		require.NotContains(t, string(text), smbtest.Password("warden"))
	}
	t.Setenv("TARNWOLD_PASSWORD_STAGEDOOR", "not that")
	require.Contains(t, runs(1, "server", "test", "stagedoor"), "the user's name or password is wrong")
	require.NotContains(t, runs(3, "scan", "stagedoor"), "not that")
	runs(0, "server", "remove", "stagedoor", "--yes")
	runs(0, "check")
}
