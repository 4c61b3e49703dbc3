package cli_test

import (
	"bytes"
	"io"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"tarnwold/internal/cli"
	"tarnwold/internal/playhouse/estates"
	"tarnwold/internal/store"
)

// TestListsStop: a table of accounts stops and says how many more there are; the whole of
// it begins as the table does, and what is for programs is whole by itself.
func TestListsStop(t *testing.T) {
	dir := t.TempDir()
	t.Setenv("TARNWOLD_ESTATE", filepath.Join(dir, "homes.estate"))
	require.NoError(t, estates.Homes{Users: 1200, PerHome: 1, Groups: 40}.Write(dir))
	run := func(args ...string) []string {
		var out, errs bytes.Buffer
		require.Zero(t, cli.Main(args, strings.NewReader(""), &out, &errs), "%v: %s", args, errs.String())
		return strings.Split(strings.TrimSuffix(out.String(), "\n"), "\n")
	}
	run("init")
	run("load", "accounts", filepath.Join(dir, "accounts.csv"), filepath.Join(dir, "members.csv"))
	some, all := run("user", "list"), run("user", "list", "--all")
	require.Len(t, some, 1+1000+1)
	require.Equal(t, "and 200 more; --all lists them", some[1001])
	require.Len(t, all, 1+1200)
	words := func(s string) []string { return strings.Fields(s) }
	for i, line := range some[:1001] {
		require.Equal(t, words(all[i]), words(line))
	}
	require.Len(t, run("user", "list", "--format", "csv"), 1+1200)
	require.Len(t, run("group", "list"), 1+40)
}

// A command asks the file by sets: how often it does hangs neither on how many items
// there are nor on how many rules differ. What a budget leaves is for what a command
// knows only once it has an answer.
func TestCallsStayFew(t *testing.T) {
	dir := t.TempDir()
	t.Setenv("TARNWOLD_ESTATE", filepath.Join(dir, "homes.estate"))
	require.NoError(t, estates.Homes{Users: 600, PerHome: 10, Groups: 200}.Write(dir))
	run := func(args ...string) int64 {
		var errs bytes.Buffer
		before, _ := store.Asked()
		code := cli.Main(args, strings.NewReader(""), io.Discard, &errs)
		after, _ := store.Asked()
		require.Contains(t, []int{0, 1}, code, "%v: %s", args, errs.String())
		return after - before
	}
	run("init")
	run("load", "accounts", filepath.Join(dir, "accounts.csv"), filepath.Join(dir, "members.csv"))
	run("load", "shares", filepath.Join(dir, "shares.csv"), "--server", "box")
	run("load", "tree", filepath.Join(dir, "tree.csv"), "--at", "box:/homes")
	const sheet = "box:/homes/user5/sheet 0.odt"
	for _, x := range []struct {
		most int64
		args []string
	}{
		{30, []string{"explain", "user5", sheet}},
		{40, []string{"who", sheet}},
		{60, []string{"reach", "user5"}},
		{60, []string{"compare", "user5", "user6"}},
		{42, []string{"files", "user5", "--count"}},
		{40, []string{"user", "show", "user5"}},
		{40, []string{"group", "show", "group 3"}},
		{40, []string{"uses", "user5"}},
		{200, []string{"findings", "--try=false"}}, // each mend that is tried is a dry run of its own
		{100, []string{"grant", "group 3", "read", "box:/homes", "--yes"}},
		{100, []string{"undo", "4", "--yes"}},
		{80, []string{"group", "join", "group 7", "user9", "--dry-run"}},
		{40, []string{"user", "list"}},
	} {
		require.LessOrEqual(t, run(x.args...), x.most, "%v", x.args)
	}
}
