package cli_test

import (
	"bytes"
	"os"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"tarnwold/internal/cli"
	"tarnwold/internal/playhouse"
)

// TestTrailAsItWas: a refusal is explained by the estate as it was when it
// happened, and not as it is now.
func TestTrailAsItWas(t *testing.T) {
	t.Chdir(t.TempDir())
	require.NoError(t, playhouse.Write("."))
	run := func(want int, args ...string) string {
		var out bytes.Buffer
		require.Equal(t, want, cli.Main(append(args, "--as", "warden"), strings.NewReader(""), &out, &out), "%s\n%s", args, out.String())
		return out.String()
	}
	for _, args := range [][]string{{"init"}, {"load", "accounts", "accounts.csv", "members.csv"}, {"server", "add", "stagedoor", "--traits", "smb-domain"},
		{"load", "shares", "shares.csv", "--server", "stagedoor"}, {"load", "tree", "stagedoor.csv", "--at", "stagedoor:/srv/playhouse"}} {
		run(0, args...)
	}
	at := time.Now().Add(time.Second).UTC().Format(time.RFC3339)
	const ledgers = "//stagedoor/productions/Box Office/Ledgers"
	require.NoError(t, os.WriteFile("tries.csv", []byte("at,user,act,where,result\n"+at+",lark,list,"+ledgers+",refused\n"+at+",lark,list,"+ledgers+",refused\n"), 0o600))
	time.Sleep(2100 * time.Millisecond) // the journal tells seconds
	run(0, "revoke", "volunteers", ledgers, "--entries", "deny", "--yes")
	run(0, "trail", "load", "tries.csv")
	run(0, "explain", "lark", ledgers)
	said := run(0, "trail", "--format", "csv")
	require.Contains(t, said, `lark,list,`+ledgers+`,refused,2,`)
	require.Contains(t, said, "list-directory: deny volunteers full tree, set on stagedoor:"+"/srv/playhouse/Box Office/Ledgers, by way of lark → volunteers")
	require.Contains(t, said, ",then,")
	// What is asked for later is held against it.
	require.Contains(t, run(0, "log", "--account", "volunteers"), "revoke volunteers")
	run(0, "request", "petra", "edit", "//stagedoor/productions/Archive", "--why", "x")
	require.Contains(t, run(0, "log", "--account", "petra"), "request 1")
	require.NotContains(t, run(0, "log", "--account", "maud"), "request 1")
}
