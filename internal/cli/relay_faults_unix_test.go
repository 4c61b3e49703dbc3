//go:build unix

package cli_test

import (
	"bytes"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"tarnwold/internal/cli"
	"tarnwold/internal/proptest"
	"tarnwold/internal/server/smb/smbtest"
)

// TestFaultsOnTheWay: whatever the network does to what a server sends, at
// whatever byte (it is cut, held back, a bit is flipped, a byte is lost), a test of
// the server, a scan and a grant end, and what they say is true: kept is on the
// server and in the estate, taken back is as it was, broken off can be finished.
func TestFaultsOnTheWay(t *testing.T) {
	proptest.Long(t)
	h := newTheatre(t, nil)
	relay := smbtest.NewFaulty(t, h.s.Port)
	dir, err := os.Getwd()
	require.NoError(t, err)
	run := func(args ...string) (int, string) {
		var out bytes.Buffer
		code := cli.Main(append(args, "--as", "warden", "--estate", filepath.Join(dir, "faulty.estate")), strings.NewReader(""), &out, &out)
		return code, out.String()
	}
	whole, err := os.ReadFile("tarnwold.estate")
	require.NoError(t, err)
	require.NoError(t, os.WriteFile("faulty.estate", whole, 0o600))
	code, said := run("server", "link", "stagedoor", "--smb", fmt.Sprintf("127.0.0.1:%d", relay.Port), "--user", "warden", "--patience", "1s")
	require.Zero(t, code, said)
	template, err := os.ReadFile("faulty.estate")
	require.NoError(t, err)
	head := func() string {
		code, said := run("log", "--format", "csv")
		require.Zero(t, code, said)
		return strings.SplitN(strings.SplitN(said, "\n", 3)[1], ",", 2)[0]
	}
	kept := head()
	was := h.bytes(inTheTheatre...)
	grant := []string{"grant", "ines", "edit", "//stagedoor/productions/Wardrobe", "--yes", "--force"}
	met := map[string]int{}
	one := func(at int64, fault smbtest.Fault, args []string) {
		what := fmt.Sprintf("%v, fault %d at byte %d", args, fault, at)
		require.NoError(t, os.WriteFile("faulty.estate", template, 0o600))
		for _, f := range []string{"-wal", "-shm"} {
			_ = os.Remove("faulty.estate" + f)
		}
		relay.Set(at, fault)
		began := time.Now()
		code, said := run(args...)
		require.Less(t, time.Since(began), 20*time.Second, "%s: it hangs\n%s", what, said)
		hit := relay.Met()
		relay.Set(-1, smbtest.Cuts)
		if !hit {
			met["not met"]++
		}
		require.NotContains(t, said, "panic", what)
		switch args[0] {
		case "server":
			require.Contains(t, []int{0, 1, 3}, code, "%s\n%s", what, said)
		case "scan":
			if code == 0 && !strings.Contains(said, "Kept") {
				require.Equal(t, kept, head(), what)
			}
		case "grant":
			now := h.bytes(inTheTheatre...)
			_, stands := run("resume", "--show")
			unfinished := !strings.Contains(stands, "no change is unfinished")
			switch {
			case strings.Contains(said, "Kept as change"):
				met["kept"]++
				require.False(t, unfinished, "%s\n%s", what, said)
				code, drift := run("drift", "stagedoor")
				require.Zero(t, code, "%s\n%s\n%s", what, said, drift)
			case strings.Contains(said, "broken off"):
				met["broken off"]++
				require.True(t, unfinished, "%s\n%s", what, said)
				back := []string{"resume"}
				if at%2 == 0 {
					back = []string{"undo"}
				}
				code, told := run(back...)
				require.Zero(t, code, "%s\n%s\n%s", what, said, told)
				code, drift := run("drift", "stagedoor")
				require.Zero(t, code, "%s\n%s\n%s", what, said, drift)
			default:
				met["nothing done"]++
				require.NotZero(t, code, "%s\n%s", what, said)
				require.False(t, unfinished, "%s\n%s", what, said)
				require.Equal(t, was, now, "%s\n%s", what, said)
				require.Equal(t, kept, head(), what)
			}
			if now := h.bytes(inTheTheatre...); fmt.Sprint(now) != fmt.Sprint(was) {
				h.restore(was)
			}
		}
		code, check := run("check")
		require.Zero(t, code, "%s\n%s\n%s", what, said, check)
	}
	commands := [][]string{{"server", "test", "stagedoor"}, {"scan", "stagedoor", "--yes"}, grant}
	if step := os.Getenv("TARNWOLD_EVERY_BYTE"); step != "" { // every so many bytes of the first 20,000
		n := int64(1)
		_, err := fmt.Sscan(step, &n)
		require.NoError(t, err)
		for at := int64(0); at < 20_000; at += n {
			for fault := smbtest.Cuts; fault <= smbtest.Drops; fault++ {
				for _, c := range commands {
					one(at, fault, c)
				}
			}
		}
	} else {
		for range many(t, 100, 10) { // while a grant is written and read back
			one(9_300+rand.Int64N(1_500), smbtest.Flips, grant)
		}
		for i := range many(t, 600, 60) {
			one(rand.Int64N(20_000), smbtest.Fault(i%4), commands[i/4%3])
		}
	}
	t.Log(met)
}
