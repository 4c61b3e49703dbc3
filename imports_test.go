package tarnwold_test

import (
	"go/parser"
	"go/token"
	"io/fs"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// floors are the storeys of the house from the ground up. A package imports
// only from storeys below its own; core imports the standard library and
// itself alone. Within a storey of core the order is that of the list.
var floors = []string{
	"core/place", "core/right", "core/account", "core/rule", "core/rule/secdesc", "core/rule/sddl", "core/posix", "core/posix/acltext", "core/change", "core/verdict", "core/crowd", "core/impact", "core/guard",
	"internal/proptest", "internal/testlog", "internal/newfile", "internal/format", "internal/store", "internal/server", "internal/estate", "internal/estate/edit", "internal/playhouse", "internal/ask", "internal/ask/show", "internal/ask/uses", "internal/ask/explain", "internal/ask/census", "internal/ask/findings", "internal/ask/expect",
	"internal/plan", "internal/plan/keeper", "internal/plan/people", "internal/plan/servers", "internal/plan/item", "internal/plan/entry", "internal/plan/saved",
	"internal/plan/review", "internal/plan/request", "internal/plan/confirm", "internal/plan/undo", "internal/plan/policies", "internal/plan/intake", "internal/live",
	"internal/report/doc", "internal/report", "internal/report/changes", "internal/cli/run", "internal/cli/asks", "internal/cli/changes", "internal/cli/load", "internal/cli/people", "internal/cli/real", "internal/cli/govern", "internal/cli", "packaging", "cmd/tarnwold",
}

// apart are storeys that know nothing of each other although one is above.
var apart = map[string][]string{
	"internal/store":     {"core/", "internal/format"},
	"internal/server":    {"internal/store"},
	"internal/ask":       {"internal/server", "internal/store", "internal/format", "internal/playhouse"},
	"internal/plan":      {"internal/playhouse"},
	"internal/estate":    {"internal/server"},
	"internal/report":    {"internal/server", "internal/store", "internal/playhouse"},
	"internal/playhouse": {"internal/estate", "internal/store"},
	"cmd/tarnwold": {"internal/store", "internal/estate", "internal/ask", "internal/ask/show", "internal/ask/uses", "internal/ask/explain", "internal/ask/census", "internal/ask/findings", "internal/ask/expect",
		"internal/plan", "internal/plan/keeper", "internal/plan/people", "internal/plan/servers", "internal/plan/item", "internal/plan/entry", "internal/plan/saved",
		"internal/plan/review", "internal/plan/request", "internal/plan/confirm", "internal/plan/undo", "internal/plan/policies", "internal/plan/intake", "internal/live", "internal/format", "internal/playhouse", "internal/report", "core/"},
}

// asking are words that only the packages estate and store may say: nobody
// else asks rows.
var asking = []string{"SELECT ", "INSERT INTO", "DELETE FROM", "UPDATE "}

// dialect are words that only SQLite understands, and only store says.
var dialect = []string{"PRAGMA", "sqlite_", "TRIGGER", "json_each", "json_extract", "VACUUM", "AUTOINCREMENT"}

func TestOnlyTheStoreSpeaksSQLite(t *testing.T) {
	asked := 0
	err := filepath.WalkDir(".", func(path string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() || !strings.HasSuffix(path, ".go") || strings.HasSuffix(path, "_test.go") {
			return err
		}
		dir := filepath.ToSlash(filepath.Dir(path))
		text, err := os.ReadFile(path)
		require.NoError(t, err)
		if dir != "internal/store" {
			for _, w := range dialect {
				require.False(t, strings.Contains(string(text), w), "%s says %s", path, w)
			}
		}
		for _, w := range asking {
			if strings.Contains(string(text), "\""+w) || strings.Contains(string(text), "`"+w) {
				asked++
				require.Contains(t, []string{"internal/store", "internal/estate"}, dir, "%s asks rows", path)
			}
		}
		return nil
	})
	require.NoError(t, err)
	require.Greater(t, asked, 5)
}

func floorOf(path string) int {
	best := -1
	for i, f := range floors {
		if (path == f || strings.HasPrefix(path, f+"/")) && (best < 0 || len(f) > len(floors[best])) {
			best = i
		}
	}
	return best
}

// farFrom lists what a storey, or the one it is part of, shall not know.
func farFrom(floor string) (out []string) {
	for f, far := range apart {
		if floor == f || strings.HasPrefix(floor, f+"/") {
			out = append(out, far...)
		}
	}
	return out
}

func TestArrowsRunDownward(t *testing.T) {
	files := 0
	err := filepath.WalkDir(".", func(path string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() || !strings.HasSuffix(path, ".go") || strings.HasSuffix(path, "_test.go") {
			return err
		}
		files++
		dir := filepath.ToSlash(filepath.Dir(path))
		mine := floorOf(dir)
		require.GreaterOrEqual(t, mine, 0, "%s stands on no storey of the house", path)
		f, err := parser.ParseFile(token.NewFileSet(), path, nil, parser.ImportsOnly)
		require.NoError(t, err)
		for _, im := range f.Imports {
			name, err := strconv.Unquote(im.Path.Value)
			require.NoError(t, err)
			own, ours := strings.CutPrefix(name, "tarnwold/")
			if !ours {
				if strings.HasPrefix(dir, "core/") {
					require.NotContains(t, strings.SplitN(name, "/", 2)[0], ".", "%s imports %s: core knows the standard library alone", path, name)
					for _, out := range []string{"os", "io", "net", "database/sql", "log", "log/slog"} {
						require.NotEqual(t, out, name, "%s imports %s: core reads and prints nothing", path, name)
					}
				}
				continue
			}
			theirs := floorOf(own)
			require.GreaterOrEqual(t, theirs, 0, "%s imports %s, which stands on no storey", path, name)
			require.LessOrEqual(t, theirs, mine, "%s imports %s, which is above it", path, name)
			for _, far := range farFrom(floors[mine]) {
				require.False(t, strings.HasPrefix(own, far), "%s imports %s, which it shall not know", path, name)
			}
		}
		return nil
	})
	require.NoError(t, err)
	require.Greater(t, files, 30, "the walk found hardly any file")
}
