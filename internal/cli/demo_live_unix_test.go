//go:build unix

package cli_test

import (
	"bytes"
	"context"
	"encoding/csv"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	smb2 "github.com/cloudsoda/go-smb2"
	"github.com/stretchr/testify/require"

	"tarnwold/core/account"
	"tarnwold/core/rule"
	"tarnwold/internal/cli"
	"tarnwold/internal/estate"
	"tarnwold/internal/format/csvfile"
	"tarnwold/internal/live"
	"tarnwold/internal/plan"
	"tarnwold/internal/plan/intake"
	"tarnwold/internal/playhouse"
	"tarnwold/internal/proptest"
	"tarnwold/internal/server"
	"tarnwold/internal/server/smb"
	"tarnwold/internal/server/smb/smbtest"
)

// TestThePlayhouseLive plays the playhouse on a real server: its people and
// files are made there, its rules written there by Tarnwold, and then it is
// worked with as an administrator would. TARNWOLD_DEMO_LIVE shows it;
// TARNWOLD_DEMO_WAIT leaves the server up until a file of that name is gone.
func TestThePlayhouseLive(t *testing.T) {
	proptest.Long(t)
	dir := t.TempDir()
	require.NoError(t, playhouse.Write(dir))
	c, names := cast(t, dir)
	c.Shares = map[string]string{"productions": "", "vault": "path = productions", "readingroom": "path = productions/Scripts\nread only = yes"}
	s := smbtest.Start(t, c)
	d := &smb2.Dialer{Initiator: &smb2.NTLMInitiator{User: "warden", Password: smbtest.Password("warden")}}
	session, err := d.Dial(context.Background(), fmt.Sprintf("127.0.0.1:%d", s.Port))
	require.NoError(t, err)
	defer func() { _ = session.Logoff() }()
	fs, err := session.Mount("productions")
	require.NoError(t, err)

	f, err := os.Open(filepath.Join(dir, "stagedoor.csv"))
	require.NoError(t, err)
	defer f.Close()
	open, err := csvfile.Open(f, "stagedoor.csv", csvfile.Tree)
	require.NoError(t, err)
	tree, err := open.ReadTree(nil)
	require.NoError(t, err)
	for i := range tree.Len() {
		r := tree.Row(i)
		native := strings.ReplaceAll(r.Path, "/", `\`)
		switch {
		case r.Path == "":
		case r.Folder:
			require.NoError(t, fs.Mkdir(native, 0o777))
		default:
			require.NoError(t, fs.WriteFile(native, []byte("Quillfeather\n"), 0o644))
		}
	}

	shown := os.Getenv("TARNWOLD_DEMO_LIVE") != ""
	say := func(text string) {
		if shown {
			fmt.Print(text)
		} else {
			t.Log(text)
		}
	}
	t.Chdir(dir)
	t.Setenv("TARNWOLD_PASSWORD", smbtest.Password("warden"))
	run := func(want int, args ...string) string {
		var out bytes.Buffer
		code := cli.Main(append(args, "--as", "warden"), strings.NewReader(""), &out, &out)
		say("\n$ tarnwold " + strings.Join(args, " ") + "\n" + out.String())
		require.Equal(t, want, code, "%v\n%s", args, out.String())
		return out.String()
	}
	run(0, "init")
	run(0, "server", "add", "stagedoor", "--smb", fmt.Sprintf("127.0.0.1:%d", s.Port), "--user", "warden")
	run(0, "server", "test", "stagedoor")
	require.Contains(t, run(0, "scan", "stagedoor"), "folders and ")
	run(0, "load", "accounts", "--passwd", filepath.Join(s.Dir, "passwd"), "--group", filepath.Join(s.Dir, "group"), "--yes")
	run(0, "load", "shares", "--config", filepath.Join(s.Dir, "smb.conf"), "--server", "stagedoor", "--yes", "--force")
	run(0, "server", "administrator", "stagedoor", "warden", "--yes", "--force")

	// The playhouse's rules, written to the server.
	ctx := context.Background()
	e, err := estate.Open(ctx, "tarnwold.estate")
	require.NoError(t, err)
	p, out, put := outbound(t, e, "lay the playhouse's rules", func(k *plan.Planner) (*plan.Plan, error) {
		var items []intake.Found
		for i := range tree.Len() {
			r := tree.Row(i)
			body := tree.Bodies[r.Body].Listed().Clone()
			there(t, k.T, body, names)
			items = append(items, intake.Found{Path: strings.TrimSuffix(filepath.Join(s.Dir, "productions")+"/"+r.Path, "/"), Folder: r.Folder, Rules: body})
		}
		return intake.Lay(k, "stagedoor", items)
	})
	u := &live.Push{Estate: e, Dial: func(ctx context.Context, _ string) (server.Server, error) {
		return smb.Dial(ctx, smb.Link{Host: "127.0.0.1", Port: s.Port, User: "warden"}, smb.Secret{Password: smbtest.Password("warden")})
	}}
	_, err = u.Keep(ctx, p, put, p.Meta("lay the playhouse's rules"), out)
	require.NoError(t, err)
	require.NoError(t, e.Close())
	require.Len(t, out[0].Writes, tree.Len())
	run(0, "deny", "volunteers", "full", "//stagedoor/vault", "--share", "--yes", "--force")
	run(0, "grant", "board", "full", "//stagedoor/vault", "--share", "--yes")
	require.Contains(t, run(0, "drift", "stagedoor"), "is as the estate has it")

	// A day's work on it.
	run(0, "explain", "bram", "//stagedoor/productions/Wardrobe/Fittings")
	run(1, "explain", "lark", "//stagedoor/productions/Box Office/Ledgers/2026-11.ods")
	run(0, "who", "//stagedoor/productions/Wardrobe")
	said := run(0, "grant", "stage", "read", "//stagedoor/productions/Wardrobe/Fittings", "--yes")
	require.Contains(t, said, "This goes to the real server stagedoor")
	nils := (&theatre{t: t, s: s}).mount("nils", "productions")
	_, err = nils.ReadFile(`Wardrobe\Fittings\measurements.ods`)
	require.NoError(t, err)
	run(0, "undo", kept(t, said), "--yes")
	_, err = nils.ReadFile(`Wardrobe\Fittings\measurements.ods`)
	require.ErrorContains(t, err, "denied")

	if shown {
		fmt.Println()
	}
	// Somebody changes something at the server; it is seen, asked for, and taken in.
	b, err := fs.SecurityInfoRaw("Lighting", ownersAndRules)
	require.NoError(t, err)
	require.NoError(t, fs.SetSecurityInfoRaw("Scripts", smb2.DACLSecurityInformation, raw(b)))
	require.Contains(t, run(1, "drift", "stagedoor"), "has other rules")
	run(0, "explain", "tomas", "//stagedoor/productions/Scripts", "--live")
	run(0, "scan", "stagedoor", "--yes")
	testers := "user,password\n"
	for _, who := range c.Users {
		testers += who + "," + smbtest.Password(who) + "\n"
	}
	require.NoError(t, os.WriteFile("testers.csv", []byte(testers), 0o600))
	var proof bytes.Buffer
	code := cli.Main([]string{"prove", "stagedoor", "--as", "testers.csv"}, strings.NewReader(""), &proof, &proof)
	say("\n$ tarnwold prove stagedoor --as testers.csv\n" + proof.String())
	require.Equal(t, 0, code, proof.String())
	require.Contains(t, run(0, "show", "//stagedoor/productions/Wardrobe/Fittings/measurements.ods"), "13 bytes")
	run(0, "check")

	if file := os.Getenv("TARNWOLD_DEMO_WAIT"); file != "" { // for a look around
		require.NoError(t, os.WriteFile(file, []byte(dir+"\n"), 0o600))
		for ; ; time.Sleep(200 * time.Millisecond) {
			if _, err := os.Stat(file); err != nil {
				return
			}
		}
	}
}

// cast makes a server's people of the playhouse's: users in groups, and groups
// in groups. names gives what the playhouse's identifiers are called.
func cast(t *testing.T, dir string) (c smbtest.Config, names map[account.ID]string) {
	rows := func(file string) [][]string {
		f, err := os.Open(filepath.Join(dir, file))
		require.NoError(t, err)
		defer f.Close()
		all, err := csv.NewReader(f).ReadAll()
		require.NoError(t, err)
		return all[1:]
	}
	c = smbtest.Config{Groups: map[string][]string{}, Nested: map[string][]string{}}
	names = map[account.ID]string{}
	group := map[string]bool{}
	for _, r := range rows("accounts.csv") {
		id, err := account.ParseID(r[2])
		require.NoError(t, err)
		names[id] = r[1]
		if r[0] == "user" {
			c.Users = append(c.Users, r[1])
		} else {
			group[r[1]], c.Groups[r[1]] = true, nil
		}
	}
	for _, r := range rows("members.csv") {
		if group[r[1]] {
			c.Nested[r[0]] = append(c.Nested[r[0]], r[1])
		} else {
			c.Groups[r[0]] = append(c.Groups[r[0]], r[1])
		}
	}
	return c, names
}

// there gives a descriptor of the playhouse the identifiers its people have on
// the server.
func there(t *testing.T, tx *estate.Tx, d *rule.Descriptor, names map[account.ID]string) {
	id := func(id account.ID) account.ID {
		name, ok := names[id]
		if !ok {
			if _, rid, in := id.Domain(); in && rid == account.DomainUsersRID {
				return tx.Domain().Child(account.DomainUsersRID)
			}
			return id
		}
		a, err := tx.Named(name, 0)
		require.NoError(t, err)
		return a.ID
	}
	d.Owner, d.Group = id(d.Owner), id(d.Group)
	for i := range d.Rules.Entries {
		d.Rules.Entries[i].Who = id(d.Rules.Entries[i].Who)
	}
}
