//go:build unix

package cli_test

import (
	"bytes"
	"encoding/json"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"tarnwold/internal/cli"
	"tarnwold/internal/server/smb/smbtest"
)

// TestWhatIsAskedOfServers: with -v each request to a server is said on standard error, as
// lines of text or of JSON, with how long it took and why it failed; never a secret.
func TestWhatIsAskedOfServers(t *testing.T) {
	h := newTheatre(t, nil)
	t.Setenv("TARNWOLD_AS", "warden")
	asked := func(code int, args ...string) (said []map[string]any) {
		var out, errs bytes.Buffer
		require.Equal(t, code, cli.Main(append(args, "-v", "--log-format", "json"), strings.NewReader(""), &out, &errs), errs.String())
		require.NotContains(t, out.String()+errs.String(), smbtest.Password("warden"))
		require.NotContains(t, out.String(), `"took"`)
		for line := range strings.Lines(errs.String()) {
			if strings.HasPrefix(line, "tarnwold: ") {
				continue
			}
			var x map[string]any
			require.NoError(t, json.Unmarshal([]byte(line), &x), line)
			require.Contains(t, x, "took")
			said = append(said, x)
		}
		return said
	}
	did := func(said []map[string]any, what string) (out []map[string]any) {
		for _, x := range said {
			if x["msg"] == what {
				out = append(out, x)
			}
		}
		return out
	}
	said := asked(0, "scan", "stagedoor", "--yes")
	for _, what := range []string{"sign on", "read shares", "read accounts", "read privileges", "read tree"} {
		require.NotEmpty(t, did(said, what), what)
	}
	require.Equal(t, "warden", did(said, "sign on")[0]["user"])
	require.Equal(t, "productions", did(said, "read tree")[0]["share"])

	said = asked(0, "grant", "volunteers", "full", "//stagedoor/productions/Scripts", "--yes")
	wrote := did(said, "write rules")
	require.Len(t, wrote, 2, "the folder and the file in it")
	require.Equal(t, "Scripts", wrote[0]["path"])
	require.Greater(t, len(did(said, "read rules")), 4, "each before and after")
	require.Empty(t, asked(0, "show", "//stagedoor/productions/Scripts"), "nothing is asked of a server")
	require.Len(t, did(asked(0, "group", "join", "volunteers", "ines", "--yes"), "change member"), 1)

	// What fails says why; a dry run of a change asks nothing.
	require.Empty(t, did(asked(0, "group", "leave", "volunteers", "ines", "--dry-run"), "change member"))
	t.Setenv("TARNWOLD_PASSWORD_STAGEDOOR", "wrong")
	failed := did(asked(3, "scan", "stagedoor", "--yes"), "sign on")
	require.Len(t, failed, 1)
	require.Equal(t, "WARN", failed[0]["level"])
	require.Contains(t, failed[0]["error"], "name or password is wrong")

	require.Contains(t, h.run(3, "scan", "stagedoor", "--yes", "-v"), `level=WARN msg="sign on" server=127.0.0.1:`)
	require.Contains(t, h.run(2, "user", "list", "--log-format", "xml"), `--log-format is "xml"; wanted text or json`)
}
