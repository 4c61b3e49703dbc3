//go:build unix

package cli_test

import (
	"bytes"
	"context"
	"encoding/hex"
	"fmt"
	"maps"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"tarnwold/core/rule/secdesc"
	"tarnwold/internal/cli"
	"tarnwold/internal/cli/run"
	"tarnwold/internal/proptest"
	"tarnwold/internal/server"
	"tarnwold/internal/server/smb"
	"tarnwold/internal/server/smb/smbtest"
)

// TestTwoWriters: two administrators change the same items of one server at the
// same time, over a network that holds everything up. Whoever is told "Kept"
// has it so on the server; the other is told what happened, and what both had
// before or one of them has now is all there ever is.
func TestTwoWriters(t *testing.T) {
	proptest.Long(t)
	h := newTheatre(t, nil)
	relay := smbtest.Slow(t, h.s.Port, 4*time.Millisecond)
	dir, err := os.Getwd()
	require.NoError(t, err)
	was := h.bytes(inTheTheatre...)
	whole, err := os.ReadFile("tarnwold.estate")
	require.NoError(t, err)
	runs := func(estate string, args ...string) (int, string) {
		var out bytes.Buffer
		code := cli.Main(append(args, "--as", "warden", "--estate", filepath.Join(dir, estate)), strings.NewReader(""), &out, &out)
		return code, out.String()
	}
	require.NoError(t, os.WriteFile("template.estate", whole, 0o600))
	code, said := runs("template.estate", "server", "link", "stagedoor", "--smb", fmt.Sprintf("127.0.0.1:%d", relay.Port), "--user", "warden")
	require.Zero(t, code, said)
	template, err := os.ReadFile("template.estate")
	require.NoError(t, err)
	changes := [][]string{
		{"deny", "petra", "read", "//stagedoor/productions/Wardrobe", "--yes", "--force"},
		{"grant", "ines", "edit", "//stagedoor/productions/Wardrobe", "--yes", "--force"},
	}
	rounds := many(t, 500, 10)
	met := map[string]int{}
	for i := range rounds {
		var wg sync.WaitGroup
		var told [2]string
		var exit [2]int
		for k, name := range []string{"a.estate", "b.estate"} {
			require.NoError(t, os.WriteFile(name, template, 0o600))
			late := time.Duration(rand.IntN(120)) * time.Millisecond
			wg.Go(func() {
				time.Sleep(late * time.Duration(k))
				exit[k], told[k] = runs(name, changes[k]...)
			})
		}
		wg.Wait()
		kept := 0
		for k, name := range []string{"a.estate", "b.estate"} {
			if strings.Contains(told[k], "Kept as change") {
				kept++
				code, said := runs(name, "drift", "stagedoor")
				require.Zero(t, code, "round %d: %s was told that it is kept:\n%s\nthe other was told:\n%s\nand on the server:\n%s", i, name, told[k], told[1-k], said)
				continue
			}
			switch {
			case strings.Contains(told[k], "somebody else changed it on the server while this was written"):
				met["came between"]++
			case strings.Contains(told[k], "has other rules on the server than in the estate"):
				met["too late"]++
			default:
				t.Fatalf("round %d: %s\n%s", i, name, told[k])
			}
			code, said := runs(name, "resume", "--show")
			require.Equal(t, run.ExitUsage, code, said)
			require.Contains(t, said, "no change is unfinished")
		}
		require.LessOrEqual(t, kept, 1, "round %d:\n%s\n%s", i, told[0], told[1])
		met[fmt.Sprint(kept, " kept")]++
		h.restore(was)
	}
	t.Logf("%d rounds: %v", rounds, met)
}

// restore gives items the descriptors they had.
func (h *theatre) restore(was map[string]string) {
	ctx := context.Background()
	c, err := smb.Dial(ctx, smb.Link{Host: "127.0.0.1", Port: h.s.Port, User: "warden"}, smb.Secret{Password: smbtest.Password("warden")})
	require.NoError(h.t, err)
	defer c.Close()
	for path, text := range was {
		b, err := hex.DecodeString(text)
		require.NoError(h.t, err)
		to, err := secdesc.Decode(b)
		require.NoError(h.t, err)
		path := strings.ReplaceAll(path, `\`, "/")
		now, err := c.Look(ctx, "productions", path, false)
		require.NoError(h.t, err)
		require.NoError(h.t, c.Write(ctx, server.Writing{Share: "productions", Path: path, Before: now.Rules, To: to}))
	}
	require.Equal(h.t, was, h.bytes(slices.Collect(maps.Keys(was))...))
}
