package cli_test

import (
	"bytes"
	"context"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"tarnwold/core/rule"
	"tarnwold/internal/cli"
	"tarnwold/internal/cli/run"
)

// TestGuide runs every example of the guide, in its order, on the demo's estate.
func TestGuide(t *testing.T) {
	text, err := os.ReadFile("../../docs/guide.md")
	require.NoError(t, err)
	dir := filepath.Join(t.TempDir(), "demo")
	var out bytes.Buffer
	require.Zero(t, (&run.App{Commands: cli.Commands, In: strings.NewReader(""), Out: &out, Err: &out}).Run(context.Background(), []string{"demo", dir}), out.String())
	t.Chdir(dir)
	ran := 0
	for _, line := range strings.Split(string(text), "\n") {
		line, ok := strings.CutPrefix(line, "    tarnwold ")
		if !ok {
			continue
		}
		line, wants, _ := strings.Cut(line, " # exits ")
		args, err := rule.Words(line)
		require.NoError(t, err, line)
		out.Reset()
		code := (&run.App{Commands: cli.Commands, In: strings.NewReader(""), Out: &out, Err: &out, Shown: args, Actor: "warden", Home: "tarnwold.estate"}).Run(context.Background(), args)
		want := 0
		if wants != "" {
			want = int(wants[0] - '0')
		}
		require.Equal(t, want, code, "%s\n%s", line, out.String())
		require.NotEmpty(t, out.String(), line)
		ran++
	}
	require.Greater(t, ran, 10)
}
