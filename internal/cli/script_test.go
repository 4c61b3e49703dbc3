package cli_test

import (
	"bytes"
	"encoding/csv"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"testing"

	"github.com/rogpeppe/go-internal/testscript"
	"github.com/xuri/excelize/v2"

	"tarnwold/core/place"
	"tarnwold/internal/cli"
	"tarnwold/internal/cli/run"
	"tarnwold/internal/playhouse"
	"tarnwold/internal/store"
)

// programs are what this binary can be started as.
var programs = map[string]func(){
	"tarnwold": func() { os.Exit(cli.Main(os.Args[1:], os.Stdin, os.Stdout, os.Stderr)) },
}

func TestMain(m *testing.M) {
	if programs[filepath.Base(os.Args[0])] == nil { // whoever runs the tests may have an estate, or settings
		for _, name := range []string{"TARNWOLD_ESTATE", "TARNWOLD_AS"} {
			_ = os.Unsetenv(name)
		}
		_ = os.Setenv(run.ConfigEnv, "")
	}
	here, err := os.Getwd()
	if err == nil && os.Getenv(schemasAt) == "" {
		_ = os.Setenv(schemasAt, filepath.Join(here, "..", "..", "docs", "schema"))
	}
	holdAnswers()
	testscript.Main(m, programs)
}

// TestScript runs the stories in testdata/script: the built program on files
// in a folder of their own.
func TestScript(t *testing.T) {
	t.Parallel()
	sample, err := filepath.Abs("../format/testdata/stagedoor")
	if err != nil {
		t.Fatal(err)
	}
	testscript.Run(t, testscript.Params{
		Dir:           "testdata/script",
		UpdateScripts: os.Getenv("UPDATE_STORIES") != "", // then read what it wrote
		Condition: func(cond string) (bool, error) {
			if cond == "root" {
				return os.Geteuid() == 0, nil
			}
			return false, fmt.Errorf("unknown condition %s", cond)
		},
		Setup: func(e *testscript.Env) error {
			e.Setenv("SAMPLE", sample)
			e.Setenv(run.ConfigEnv, "")
			e.Setenv(schemasAt, os.Getenv(schemasAt))
			e.Setenv(schemasWritten, os.Getenv(schemasWritten))
			e.Setenv("WORKSHOP", filepath.Join(filepath.Dir(sample), "workshop"))
			e.Setenv("POSIX", filepath.Join(filepath.Dir(sample), "posix"))
			e.Setenv("DOMAIN_OPENS", filepath.Join(filepath.Dir(sample), "domain-opens"))
			e.Setenv("OPTIONS", filepath.Join(filepath.Dir(sample), "options"))
			e.Setenv("ACTS", filepath.Join(filepath.Dir(sample), "acts"))
			e.Setenv("VERSION1", filepath.Join(filepath.Dir(filepath.Dir(filepath.Dir(sample))), "estate", "testdata", "version1"))
			e.Setenv("VERSION5", filepath.Join(filepath.Dir(filepath.Dir(filepath.Dir(sample))), "estate", "testdata", "version5"))
			e.Setenv("VERSION2", filepath.Join(filepath.Dir(filepath.Dir(filepath.Dir(sample))), "estate", "testdata", "version2"))
			e.Setenv("TZ", "UTC")
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
			"fillup":    fillUp,
			"locked":    locked,
			"replace":   replaceText,
			"append":    appendText,
			"sheet":     editSheet,
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
	loaded.once.Do(func() { // the same for all that begin with it
		for _, c := range [][]string{
			{"init"},
			{"load", "accounts", "accounts.csv", "members.csv"},
			{"server", "add", "stagedoor", "--traits", "smb-domain", "--administrator", "warden"},
			{"server", "add", "flyloft", "--traits", "smb-domain"},
			{"load", "shares", "shares.csv", "--server", "stagedoor"},
			{"load", "shares", "programme-shares.csv", "--server", "flyloft"},
			{"load", "tree", "stagedoor.csv", "--at", "stagedoor:/srv/playhouse"},
			{"load", "tree", "flyloft.csv", "--at", "flyloft:/data/programme"},
		} {
			ts.Check(ts.Exec("tarnwold", c...))
		}
		var err error
		loaded.estate, err = os.ReadFile(ts.MkAbs("tarnwold.estate"))
		ts.Check(err)
	})
	ts.Check(os.WriteFile(ts.MkAbs("tarnwold.estate"), loaded.estate, 0o600))
}

var loaded struct {
	once   sync.Once
	estate []byte
}

// sheet FROM TO SHEET CELL=TEXT… changes cells of a workbook; without FROM (-) it is a new one.
func editSheet(ts *testscript.TestScript, neg bool, args []string) {
	f := excelize.NewFile()
	var err error
	if args[0] != "-" {
		f, err = excelize.OpenFile(ts.MkAbs(args[0]))
		ts.Check(err)
	} else {
		ts.Check(f.SetSheetName("Sheet1", args[2]))
	}
	for _, a := range args[3:] {
		cell, text, _ := strings.Cut(a, "=")
		if n, nerr := strconv.ParseFloat(text, 64); nerr == nil {
			err = f.SetCellValue(args[2], cell, n)
		} else {
			err = f.SetCellStr(args[2], cell, text)
		}
		ts.Check(err)
	}
	ts.Check(f.SaveAs(ts.MkAbs(args[1])))
	ts.Check(f.Close())
}

// sqlite FILE STATEMENT changes a file behind the program's back.
func runSQL(ts *testscript.TestScript, neg bool, args []string) {
	db := store.Raw(ts.MkAbs(args[0]))
	defer db.Close()
	_, err := db.Exec(strings.Join(args[1:], " "))
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

// measured ask ANSWERS FILE writes a sample's answers as questions, measured
// try as acts; measured check or tried ANSWERS FILE N compares answers with
// what the server really granted or let be done.
func measured(ts *testscript.TestScript, neg bool, args []string) {
	rows := readCSV(ts, args[1])
	if i := slices.Index(args, "but"); i > 0 { // shares that are left out
		rows = slices.DeleteFunc(rows, func(r []string) bool { return slices.Contains(args[i+1:], r[1]) })
		args = args[:i]
	}
	if args[0] == "try" {
		ts.Check(os.WriteFile(ts.MkAbs(args[2]), trials(rows), 0o600))
		return
	}
	if strings.HasPrefix(args[0], "posix") {
		measuredPosix(ts, rows, args)
		return
	}
	if args[0] == "ask" {
		var b bytes.Buffer
		w := csv.NewWriter(&b)
		_ = w.Write([]string{"user", "where"})
		for _, r := range rows {
			_ = w.Write([]string{r[0], place.Address{Server: "stagedoor", Share: r[1], Path: r[2]}.String()})
		}
		w.Flush()
		ts.Check(os.WriteFile(ts.MkAbs(args[2]), b.Bytes(), 0o600))
		return
	}
	answers := readCSV(ts, args[2])
	if len(answers) != len(rows) || fmt.Sprint(len(rows)) != args[3] {
		ts.Fatalf("%d answers for %d measured ones", len(answers), len(rows))
	}
	for i, r := range rows {
		got, want := answers[i][3], r[3]
		if args[0] == "tried" {
			got, want = answers[i][4], map[string]string{"1": "yes", "0": "no"}[r[5]]
		}
		if got != want {
			ts.Fatalf("row %d: %v was measured, %v answered", i+2, r, answers[i])
		}
	}
	ts.Logf("%d answers, 0 different", len(rows))
}

// measuredPosix asks, and holds to a kernel's answers, who may read, write, run
// and rename: measured posix-ask or posix-try ANSWERS FILE writes the questions,
// measured posix ANSWERS EXPLAINED TRIED N compares.
func measuredPosix(ts *testscript.TestScript, rows [][]string, args []string) {
	at := func(path string) string {
		return place.Address{Server: "mill", Path: "/srv/mill"}.String() + "/" + path
	}
	if args[0] != "posix" {
		var b bytes.Buffer
		w := csv.NewWriter(&b)
		head := []string{"user", "where"}
		if args[0] == "posix-try" {
			head = []string{"user", "act", "where", "to"}
		}
		_ = w.Write(head)
		for _, r := range rows {
			q := []string{r[0], strings.TrimSuffix(at(r[1]), "/")}
			if args[0] == "posix-try" {
				q = []string{r[0], "rename", q[1], "something else"}
			}
			_ = w.Write(q)
		}
		w.Flush()
		ts.Check(os.WriteFile(ts.MkAbs(args[2]), b.Bytes(), 0o600))
		return
	}
	explained, tried := readCSV(ts, args[2]), readCSV(ts, args[3])
	if len(explained) != len(rows) || len(tried) != len(rows) || fmt.Sprint(4*len(rows)) != args[4] {
		ts.Fatalf("%d and %d answers for %d measured ones", len(explained), len(tried), len(rows))
	}
	for i, r := range rows {
		granted, err := strconv.ParseUint(strings.TrimPrefix(explained[i][3], "0x"), 16, 32)
		ts.Check(err)
		// Write on a folder without execute lets nothing be added: what is left of it are its own attributes.
		for j, bit := range []uint64{0x1, 0x10, 0x20} {
			if (granted&bit != 0) != (r[2+j] == "1") {
				ts.Fatalf("row %d: %v was measured, %v answered", i+2, r, explained[i])
			}
		}
		if want := map[string]string{"1": "yes", "0": "no"}[r[5]]; tried[i][4] != want && r[1] != "" {
			ts.Fatalf("row %d: %v was measured, %v answered", i+2, r, tried[i])
		}
	}
	ts.Logf("%d answers, 0 different", 4*len(rows))
}

// trials writes acts that were really tried as acts to try.
func trials(rows [][]string) []byte {
	ours := map[string]string{"create-file": "create", "move-folder": "move", "replace-elsewhere": "replace", "delete-folder": "delete",
		"take-ownership": "take-owner", "give-ownership": "give-owner", "rename-by-write-attributes": "rename-by-attributes"}
	var b bytes.Buffer
	w := csv.NewWriter(&b)
	_ = w.Write([]string{"user", "act", "where", "to"})
	for _, r := range rows {
		at := func(path string) string {
			return place.Address{Server: "stagedoor", Share: r[1], Path: path}.String()
		}
		act, where, to := r[2], at(r[3]), ""
		switch {
		case act == "create-file" || act == "create" || act == "make-folder":
			where = at(r[4])
		case act == "give-ownership" || act == "give-owner":
			to = r[4]
		case r[4] != "":
			to = at(r[4])
		}
		if n, ok := ours[act]; ok {
			act = n
		}
		_ = w.Write([]string{r[0], act, where, to})
	}
	w.Flush()
	return b.Bytes()
}

// replace OLD NEW FROM TO writes a file with every OLD in it made NEW.
func replaceText(ts *testscript.TestScript, neg bool, args []string) {
	text := ts.ReadFile(args[2])
	if !strings.Contains(text, args[0]) {
		ts.Fatalf("%s holds no %q", args[2], args[0])
	}
	ts.Check(os.WriteFile(ts.MkAbs(args[3]), []byte(strings.ReplaceAll(text, args[0], args[1])), 0o600))
}

// append FILE TEXT puts text behind a file's.
func appendText(ts *testscript.TestScript, neg bool, args []string) {
	ts.Check(os.WriteFile(ts.MkAbs(args[0]), []byte(ts.ReadFile(args[0])+args[1]), 0o600))
}

func readCSV(ts *testscript.TestScript, file string) [][]string {
	rows, err := csv.NewReader(strings.NewReader(ts.ReadFile(file))).ReadAll()
	ts.Check(err)
	return rows[1:]
}

// locked FILE holds the estate as a process that writes to it does.
func locked(ts *testscript.TestScript, neg bool, args []string) {
	db := store.Raw(ts.MkAbs(args[0]))
	_, err := db.Exec("BEGIN EXCLUSIVE")
	ts.Check(err)
	ts.Defer(func() { db.Close() })
}
