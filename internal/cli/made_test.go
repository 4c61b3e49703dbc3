package cli_test

import (
	"context"
	"encoding/csv"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"testing"

	"github.com/stretchr/testify/require"

	"tarnwold/core/account"
	"tarnwold/core/rule"
	"tarnwold/core/rule/sddl"
	"tarnwold/core/verdict"
	"tarnwold/internal/ask"
	"tarnwold/internal/ask/explain"
	"tarnwold/internal/estate"
)

// TestMadeAsMeasured: whether a user can make something, and what rules it
// gets, as a server did it in 3,384 cases.
func TestMadeAsMeasured(t *testing.T) {
	t.Parallel()
	dir, prog := t.TempDir(), program(t)
	sample, err := filepath.Abs("../format/testdata/workshop")
	require.NoError(t, err)
	at := func(name string) string { return filepath.Join(sample, name) }
	must(t, dir, prog, "init")
	must(t, dir, prog, "load", "accounts", at("accounts.csv"), at("members.csv"), "--passwd", at("passwd"), "--group", at("group"))
	must(t, dir, prog, "server", "add", "stagedoor", "--traits", "smb", "--administrator", "warden")
	must(t, dir, prog, "load", "shares", at("shares.csv"), "--server", "stagedoor")
	must(t, dir, prog, "load", "tree", at("tree.csv"), "--at", "stagedoor:/srv/playhouse")
	f, err := os.Open(at("created.csv"))
	require.NoError(t, err)
	defer f.Close()
	rows, err := csv.NewReader(f).ReadAll()
	require.NoError(t, err)
	ctx := context.Background()
	e, err := estate.Open(ctx, filepath.Join(dir, "tarnwold.estate"))
	require.NoError(t, err)
	defer e.Close()
	made, different := 0, map[string]int{}
	require.NoError(t, e.View(ctx, func(tx *estate.Tx) error {
		k := ask.New(tx)
		for _, r := range rows[1:] {
			user, err := tx.Named(r[0], account.User)
			require.NoError(t, err)
			in, err := k.Place("//stagedoor/productions/" + r[1])
			require.NoError(t, err, r[1])
			folder := r[3] == "folder"
			tried := explain.CanMake(k, user, in, r[2], folder)
			if tried.Allowed != (r[4] == "0") {
				different[fmt.Sprintf("allowed is %v, status %s", tried.Allowed, r[4])]++
				continue
			}
			if !tried.Allowed {
				continue
			}
			made++
			want, err := sddl.Parse(r[5], account.ID{})
			require.NoError(t, err)
			got := verdict.Made(tx.Of(in.Strand).Listed(), folder, explain.MakerOf(k, user, in.Server, in.Share), &in.Server.Traits)
			const flags = rule.RulesPresent | rule.RulesSealed | rule.RulesFollow
			what := ""
			switch {
			case got.Owner != want.Owner:
				what = "owner"
			case got.Group != want.Group:
				what = "group"
			case !slices.Equal(got.Rules.Entries, want.Rules.Entries):
				what = "entries"
			case got.Control&flags != want.Control&flags:
				what = "flags"
			}
			if what != "" {
				if different[what]++; different[what] < 4 {
					text, _ := sddl.Format(got)
					up, _ := sddl.Format(tx.Of(in.Strand).Listed())
					t.Logf("%s: %v\nfolder %s\nmade   %s\ngot    %s", what, r[:5], up, r[5], text)
				}
			}
		}
		return tx.Err()
	}))
	t.Logf("%d tries, %d made, different: %v", len(rows)-1, made, different)
	require.Len(t, rows, 3385)
	require.Empty(t, different)
}
