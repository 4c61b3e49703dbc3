package cli_test

import (
	"context"
	"fmt"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"tarnwold/core/account"
	"tarnwold/internal/ask"
	"tarnwold/internal/ask/explain"
	"tarnwold/internal/estate"
)

// TestAnswersAgree: for every user, place and way in of the demo, the
// explanation, its short form, the single rights, the acts and the trials say
// the same of the same thing, and a refused trial says what to change.
func TestAnswersAgree(t *testing.T) {
	t.Parallel()
	prog := program(t)
	dir := demo(t, prog)
	ctx := context.Background()
	e, err := estate.Open(ctx, filepath.Join(dir, "tarnwold.estate"))
	require.NoError(t, err)
	defer e.Close()
	asked, no := 0, map[string]int{}
	require.NoError(t, e.View(ctx, func(tx *estate.Tx) error {
		k := ask.New(tx)
		var places []estate.Place
		for _, top := range tx.TopItems() {
			for _, id := range tx.Subtree(top, 1000) {
				places = append(places, tx.Place(id))
			}
		}
		require.Len(t, places, 47)
		for _, u := range tx.Accounts(account.User) {
			for _, p := range places {
				full, err := explain.Explain(k, u.Name, p.String(), false)
				require.NoError(t, err)
				short, err := explain.Explain(k, u.Name, p.String(), true)
				require.NoError(t, err)
				require.Len(t, short, len(full))
				for i, a := range full {
					require.Equal(t, [3]string{a.Route, a.Granted, a.Level}, [3]string{short[i].Route, short[i].Granted, short[i].Level})
					held := map[string]bool{}
					for _, r := range a.Rights {
						held[r.Right] = r.Granted
						if r.Share != nil {
							require.Equal(t, r.Granted, r.File.Granted && r.Share.Granted)
						} else {
							require.Equal(t, r.Granted, r.File.Granted)
						}
						require.NotEmpty(t, r.File.By)
						if r.File.By == "entry" || r.File.By == "above" {
							require.Equal(t, u.Name, r.File.Chain[0])
						}
					}
					require.Len(t, a.Rights, 13)
					for _, act := range a.Acts {
						asked++
						where, to := short[i].Where, ""
						switch act.Act {
						case "create", "make-folder":
							where += "/something new"
						case "rename":
							to = "something else"
						}
						tried, err := explain.Try(k, u.Name, act.Act, where, to, false)
						require.NoError(t, err, "%s %s %s", u.Name, act.Act, where)
						require.Equal(t, act.Allowed, tried.Allowed, "%s %s %s", u.Name, act.Act, where)
						require.Equal(t, tried.Allowed, act.Decides.Held)
						require.Equal(t, tried.Allowed, tried.Mend == nil)
						switch act.Act {
						case "read":
							require.Equal(t, held["read-data"], tried.Allowed)
						case "list":
							require.Equal(t, held["list-directory"], tried.Allowed)
						case "save":
							require.Equal(t, held["write-data"] && held["append-data"], tried.Allowed)
						case "change-rules":
							require.Equal(t, held["write-acl"] && a.Door.Open && !a.Door.ReadOnly, tried.Allowed)
						}
						if !tried.Allowed {
							no[tried.Mend.Do]++
						}
						if !a.Door.Open {
							require.False(t, tried.Allowed)
							require.True(t, strings.HasPrefix(tried.Mend.Do, "share-") || tried.Mend.Do == "take-away", "%+v", tried.Mend)
						}
					}
				}
			}
		}
		return tx.Err()
	}))
	t.Log(asked, "acts; what would mend those refused:", no)
	require.Greater(t, asked, 5000)
	for _, do := range []string{"allow", "take-away", "share-allows", "share-switch"} {
		require.Positive(t, no[do], do)
	}
}

// TestMendedItIsAllowed: doing what a refused trial says would have to change
// first brings the act nearer: that need is held then.
func TestMendedItIsAllowed(t *testing.T) {
	t.Parallel()
	prog := program(t)
	dir := demo(t, prog)
	for _, c := range []struct{ who, act, where, to string }{
		{"silas", "create", "//stagedoor/productions/Scripts/new.odt", ""},
		{"lark", "read", "//stagedoor/productions/Casting/auditions.ods", ""},
		{"petra", "rename", "//stagedoor/productions/Scripts", "Drafts"},
		{"bram", "change-rules", "//stagedoor/productions/Wardrobe", ""},
	} {
		file := filepath.Join(dir, "tarnwold.estate")
		try := func() *explain.Tried {
			e, err := estate.Open(context.Background(), file)
			require.NoError(t, err)
			defer e.Close()
			var got *explain.Tried
			require.NoError(t, e.View(context.Background(), func(tx *estate.Tx) (err error) {
				got, err = explain.Try(ask.New(tx), c.who, c.act, c.where, c.to, false)
				return err
			}))
			return got
		}
		for step := 0; ; step++ {
			got := try()
			if got.Allowed {
				require.Positive(t, step, fmt.Sprint(c))
				break
			}
			require.Equal(t, "allow", got.Mend.Do)
			require.Less(t, step, 3)
			must(t, dir, prog, "grant", got.Mend.Who, got.Mend.Right, got.Mend.Where, "--yes", "--force")
		}
	}
}
