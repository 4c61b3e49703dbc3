package cli_test

import (
	"bytes"
	"fmt"
	"path/filepath"
	"strings"
	"sync"
	"testing"

	"github.com/stretchr/testify/require"

	"tarnwold/internal/cli"
)

// TestBackupsWhileOthersWrite: each is whole, and is what the estate was after one of its
// changes: the proof of its last change is the one that the estate has for it.
func TestBackupsWhileOthersWrite(t *testing.T) {
	dir := t.TempDir()
	file := filepath.Join(dir, "made.estate")
	run := func(want int, args ...string) string {
		var out bytes.Buffer
		require.Equal(t, want, cli.Main(append(args, "--estate", file), strings.NewReader(""), &out, &out), "%v: %s", args, out.String())
		return out.String()
	}
	run(0, "init")
	run(0, "server", "add", "box")
	const changes, backups = 60, 12
	var wg sync.WaitGroup
	wg.Go(func() {
		for i := range changes {
			run(0, "group", "add", fmt.Sprint("group ", i))
		}
	})
	var made []string
	for i := range backups {
		made = append(made, filepath.Join(dir, fmt.Sprintf("b%d.estate", i)))
		run(0, "backup", made[i])
	}
	wg.Wait()
	proofs := map[string]string{} // change → proof
	var out bytes.Buffer
	heads := map[string]bool{}
	for _, b := range made {
		out.Reset()
		require.Zero(t, cli.Main([]string{"check", "--estate", b}, strings.NewReader(""), &out, &out), out.String())
		out.Reset()
		require.Zero(t, cli.Main([]string{"log", "--proof", "--format", "csv", "--estate", b}, strings.NewReader(""), &out, &out), out.String())
		line := strings.Split(strings.TrimSpace(out.String()), "\n")[1]
		change, _, _ := strings.Cut(line, ",")
		proofs[change] = line
		proof := line[strings.LastIndexByte(line, ',')+1:]
		run(0, "check", "--head", proof) // the estate's own journal carries it
		heads[change] = true
	}
	require.NotEmpty(t, proofs)
	t.Logf("backups of %d different moments", len(heads))
	left, err := filepath.Glob(filepath.Join(dir, ".*new*"))
	require.NoError(t, err)
	require.Empty(t, left)
}
