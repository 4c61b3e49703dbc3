package cli_test

import (
	"encoding/csv"
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
	"github.com/xuri/excelize/v2"

	"tarnwold/internal/proptest"
)

// TestAReviewByFortyKeepers: 2,000 places in 40 departments, each kept by somebody, from its
// beginning to its end: what they answered is done, place by place, and nothing else.
func TestAReviewByFortyKeepers(t *testing.T) {
	t.Parallel()
	proptest.Long(t)
	prog, dir := program(t), t.TempDir()
	const departments, each = 40, 50
	id := func(n int) string { return fmt.Sprintf("S-1-5-21-4-4-4-%d", 2000+n) }
	var accounts, tree strings.Builder
	accounts.WriteString("kind,name,sid,id\nuser,warden,S-1-5-21-4-4-4-1000,\ngroup,staff,S-1-5-21-4-4-4-1001,\n")
	tree.WriteString("path,kind,sddl\n,folder,O:S-1-5-21-4-4-4-1000G:SYD:P(A;OICI;FA;;;S-1-5-21-4-4-4-1000)\n")
	for i := range departments {
		fmt.Fprintf(&accounts, "user,keeper%d,%s,\ngroup,team%d,%s,\n", i, id(2*i), i, id(2*i+1))
		fmt.Fprintf(&tree, "d%d,folder,O:S-1-5-21-4-4-4-1000G:SYD:AI(A;OICIID;FA;;;S-1-5-21-4-4-4-1000)\n", i)
		for j := range each {
			fmt.Fprintf(&tree, "d%d/p%d,folder,O:S-1-5-21-4-4-4-1000G:SYD:AI(A;OICI;0x1301bf;;;%s)(A;OICI;0x1200a9;;;S-1-5-21-4-4-4-1001)(A;OICIID;FA;;;S-1-5-21-4-4-4-1000)\n", i, j, id(2*i+1))
		}
	}
	require.NoError(t, os.WriteFile(filepath.Join(dir, "accounts.csv"), []byte(accounts.String()), 0o600))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "tree.csv"), []byte(tree.String()), 0o600))
	must(t, dir, prog, "init")
	must(t, dir, prog, "load", "accounts", "accounts.csv")
	must(t, dir, prog, "server", "add", "box", "--traits", "smb-domain", "--administrator", "warden")
	must(t, dir, prog, "load", "tree", "tree.csv", "--at", "box:/srv")
	for i := range departments {
		must(t, dir, prog, "keeper", "add", fmt.Sprintf("keeper%d", i), "--of", fmt.Sprintf("box:/srv/d%d", i), "--as", "warden")
	}
	require.Contains(t, must(t, dir, prog, "review", "start", "yearly", "--due", "2099-12-31"), "part of keeper0: 100 rows")
	must(t, dir, prog, "review", "show", "yearly", "--to", "parts")

	// Everybody answers, but keeper7; what they said of each place and account.
	draw := rand.New(rand.NewPCG(7, 40))
	says := map[string]string{}
	count := map[string]int{}
	for i := range departments {
		name := filepath.Join(dir, "parts", fmt.Sprintf("keeper%d.xlsx", i))
		f, err := excelize.OpenFile(name)
		require.NoError(t, err)
		rows, err := f.GetRows("Answer")
		require.NoError(t, err)
		require.Len(t, rows, 1+2*each)
		for r := range rows[1:] {
			row := rows[r+1]
			answer := []string{"keep", "keep", "keep", "take away", "ask", ""}[draw.IntN(6)]
			if i == 7 {
				answer = ""
			}
			require.NoError(t, f.SetCellStr("Answer", fmt.Sprintf("F%d", r+2), answer))
			says[row[0]+" "+row[1]] = answer
			count[answer]++
		}
		require.NoError(t, f.Save())
		require.NoError(t, f.Close())
		out := must(t, dir, prog, "review", "take", name, "--as", fmt.Sprintf("keeper%d", i))
		require.Equal(t, i == 7, strings.Contains(out, "Nothing to do"), out)
	}
	var closed struct {
		Closing struct {
			Rows       int
			Kept       int
			Taken      int `json:"taken-away"`
			Asked      []any
			Unanswered []struct {
				Part string
				Rows int
			}
		}
	}
	require.NoError(t, json.Unmarshal([]byte(must(t, dir, prog, "review", "close", "yearly", "--yes", "--as", "warden", "--format", "json")), &closed))
	open := 0
	for _, u := range closed.Closing.Unanswered {
		open += u.Rows
	}
	require.Equal(t, 2*departments*each, closed.Closing.Rows)
	require.Equal(t, []int{count["keep"], count["take away"], count["ask"], count[""]}, []int{closed.Closing.Kept, closed.Closing.Taken, len(closed.Closing.Asked), open})

	// Each entry that was set is still there, but for those.
	there := map[string]bool{}
	for i := range departments {
		team := fmt.Sprint("team", i)
		rows, err := csv.NewReader(strings.NewReader(must(t, dir, prog, "grid", fmt.Sprint("box:/srv/d", i), "--for", "staff,"+team, "--format", "csv"))).ReadAll()
		require.NoError(t, err)
		for _, r := range rows[1:] {
			there[r[0]+" staff"], there[r[0]+" "+team] = strings.Contains(r[3], "+"), strings.Contains(r[4], "+")
		}
	}
	for key, answer := range says {
		require.Equal(t, answer != "take away", there[key], "%s: %s", key, answer)
	}
	require.Contains(t, must(t, dir, prog, "check"), "is whole")
}
