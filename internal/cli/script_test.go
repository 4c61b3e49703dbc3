package cli

import (
	"bytes"
	"database/sql"
	"encoding/csv"
	"fmt"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"testing"

	"github.com/rogpeppe/go-internal/testscript"
	"golang.org/x/sys/unix"

	"tarnwold/internal/playhouse"
)

func TestMain(m *testing.M) {
	testscript.Main(m, map[string]func(){
		"tarnwold": func() { os.Exit(Main(os.Args[1:], os.Stdin, os.Stdout, os.Stderr)) },
	})
}

// TestScript runs the stories in testdata/script: the built program on files
// in a folder of their own.
func TestScript(t *testing.T) {
	sample, err := filepath.Abs("../format/testdata/stagedoor")
	if err != nil {
		t.Fatal(err)
	}
	testscript.Run(t, testscript.Params{
		Dir: "testdata/script",
		Condition: func(cond string) (bool, error) {
			if cond == "root" {
				return os.Geteuid() == 0, nil
			}
			return false, fmt.Errorf("unknown condition %s", cond)
		},
		Setup: func(e *testscript.Env) error {
			e.Setenv("SAMPLE", sample)
			e.Setenv("NO_COLOR", "1")
			e.Setenv("USER", "tester")
			return nil
		},
		Cmds: map[string]func(*testscript.TestScript, bool, []string){
			"playhouse": makePlayhouse,
			"sqlite":    runSQL,
			"lines":     countLines,
			"same":      sameCSV,
			"measured":  measured,
			"smalldisk": smallDisk,
			"locked":    locked,
		},
	})
}

// playhouse writes the playhouse's files here; "playhouse loaded" loads them
// into tarnwold.estate too.
func makePlayhouse(ts *testscript.TestScript, neg bool, args []string) {
	ts.Check(playhouse.Write(ts.MkAbs(".")))
	if len(args) == 0 {
		return
	}
	for _, c := range [][]string{
		{"init"},
		{"load", "accounts", "accounts.csv", "members.csv"},
		{"load", "shares", "shares.csv", "--server", "stagedoor"},
		{"load", "shares", "programme-shares.csv", "--server", "flyloft"},
		{"load", "tree", "stagedoor.csv", "--at", "stagedoor:/srv/playhouse"},
		{"load", "tree", "flyloft.csv", "--at", "flyloft:/data/programme"},
		{"server", "add", "stagedoor", "--administrator", "warden"},
	} {
		ts.Check(ts.Exec("tarnwold", c...))
	}
}

// sqlite FILE STATEMENT changes a file behind the program's back.
func runSQL(ts *testscript.TestScript, neg bool, args []string) {
	db, err := sql.Open("sqlite", ts.MkAbs(args[0]))
	ts.Check(err)
	defer db.Close()
	_, err = db.Exec(strings.Join(args[1:], " "))
	ts.Check(err)
}

// lines N checks how many lines the last command printed.
func countLines(ts *testscript.TestScript, neg bool, args []string) {
	want, err := strconv.Atoi(args[0])
	ts.Check(err)
	if got := strings.Count(ts.ReadFile("stdout"), "\n"); got != want {
		ts.Fatalf("%d lines were printed, wanted %d", got, want)
	}
}

// same FILE FILE compares two files byte for byte; ! same wants a difference.
func sameCSV(ts *testscript.TestScript, neg bool, args []string) {
	a, b := ts.ReadFile(args[0]), ts.ReadFile(args[1])
	if (a == b) == neg {
		ts.Fatalf("%s and %s: same is %v", args[0], args[1], a == b)
	}
}

// measured ask FILE writes the sample's answers as questions; measured check
// FILE compares answers with what the server really granted.
func measured(ts *testscript.TestScript, neg bool, args []string) {
	rows := readCSV(ts, filepath.Join(ts.Getenv("SAMPLE"), "answers.csv"))
	if args[0] == "ask" {
		var b bytes.Buffer
		w := csv.NewWriter(&b)
		_ = w.Write([]string{"user", "where"})
		for _, r := range rows {
			_ = w.Write([]string{r[0], "//stagedoor/" + r[1] + "/" + r[2]})
		}
		w.Flush()
		ts.Check(os.WriteFile(ts.MkAbs(args[1]), b.Bytes(), 0o600))
		return
	}
	answers := readCSV(ts, args[1])
	if len(answers) != len(rows) || len(rows) != 12000 {
		ts.Fatalf("%d answers for %d measured ones", len(answers), len(rows))
	}
	for i, r := range rows {
		if answers[i][3] != r[3] {
			ts.Fatalf("row %d: %v was measured, %v answered", i+2, r, answers[i])
		}
	}
	ts.Logf("%d answers, 0 different", len(rows))
}

func readCSV(ts *testscript.TestScript, file string) [][]string {
	rows, err := csv.NewReader(strings.NewReader(ts.ReadFile(file))).ReadAll()
	ts.Check(err)
	return rows[1:]
}

// smalldisk FOLDER SIZE puts a disk of its own on a folder.
func smallDisk(ts *testscript.TestScript, neg bool, args []string) {
	dir := ts.MkAbs(args[0])
	ts.Check(os.MkdirAll(dir, 0o700))
	if err := unix.Mount("tmpfs", dir, "tmpfs", 0, "size="+args[1]); err != nil {
		fmt.Fprintln(os.Stderr, "SKIPPED: a full disk is not tested, for a small one can't be mounted here:", err)
		ts.Setenv("SKIP", "1")
		return
	}
	ts.Defer(func() { _ = unix.Unmount(dir, 0) })
}

// locked FILE holds the estate as a process that writes to it does.
func locked(ts *testscript.TestScript, neg bool, args []string) {
	db, err := sql.Open("sqlite", ts.MkAbs(args[0]))
	ts.Check(err)
	db.SetMaxOpenConns(1)
	_, err = db.Exec("BEGIN EXCLUSIVE")
	ts.Check(err)
	ts.Defer(func() { db.Close() })
}
