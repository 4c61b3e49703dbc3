//go:build unix

package cli_test

import (
	"bufio"
	"context"
	"database/sql"
	"encoding/csv"
	"fmt"
	"io"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"tarnwold/internal/cli"
	"tarnwold/internal/estate"
	"tarnwold/internal/playhouse/estates"
)

// manyPeople writes an LDIF of a domain: groups are nested, and list on average
// 26 of the users.
func manyPeople(b *testing.B, file string, users, groups int) {
	f, err := os.Create(file)
	require.NoError(b, err)
	w := bufio.NewWriter(f)
	r := rand.New(rand.NewPCG(1, 2))
	const base = "DC=playhouse,DC=test"
	for i := range users {
		fmt.Fprintf(w, "dn: CN=User %[1]d,OU=People,%[2]s\nobjectClass: top\nobjectClass: person\nobjectClass: user\ncn: User %[1]d\nsAMAccountName: u%[1]d\n"+
			"userPrincipalName: u%[1]d@playhouse.test\nobjectSid: S-1-5-21-7-8-9-%[3]d\nprimaryGroupID: 513\nuserAccountControl: 512\nuSNChanged: %[1]d\n\n", i, base, 1000+i)
	}
	for i := range groups {
		fmt.Fprintf(w, "dn: CN=Group %[1]d,OU=Groups,%[2]s\nobjectClass: top\nobjectClass: group\ncn: Group %[1]d\nsAMAccountName: g%[1]d\n"+
			"objectSid: S-1-5-21-7-8-9-%[3]d\ngroupType: -2147483646\nuSNChanged: %[4]d\n", i, base, 1000+users+i, users+i)
		seen := map[int]bool{}
		for range r.IntN(50) + 1 {
			if m := r.IntN(users); !seen[m] {
				seen[m] = true
				fmt.Fprintf(w, "member: CN=User %d,OU=People,%s\n", m, base)
			}
		}
		if i > 0 {
			fmt.Fprintf(w, "member: CN=Group %d,OU=Groups,%s\n", r.IntN(i), base)
		}
		fmt.Fprintln(w)
	}
	require.NoError(b, w.Flush())
	require.NoError(b, f.Close())
}

// bare is two tables of the same database by the same driver, and nothing else.
type bare struct {
	account, member *sql.Stmt
	kept            func()
}

func newBare(b *testing.B) *bare {
	db, err := sql.Open("sqlite", "file:"+filepath.Join(b.TempDir(), "bare.db")+"?_pragma=synchronous(full)&_pragma=cache_size(-65536)")
	require.NoError(b, err)
	db.SetMaxOpenConns(1)
	_, err = db.Exec("CREATE TABLE accounts(id INTEGER PRIMARY KEY, name TEXT, sid TEXT UNIQUE); CREATE TABLE members(holder INTEGER, member INTEGER, PRIMARY KEY(holder, member))")
	require.NoError(b, err)
	tx, err := db.Begin()
	require.NoError(b, err)
	x := &bare{}
	x.account, err = tx.Prepare("INSERT INTO accounts VALUES(?,?,?)")
	require.NoError(b, err)
	x.member, err = tx.Prepare("INSERT INTO members VALUES(?,?)")
	require.NoError(b, err)
	x.kept = func() {
		require.NoError(b, tx.Commit())
		require.NoError(b, db.Close())
	}
	return x
}

// bareLists reads the rows of sheets of accounts and members and puts them in.
func bareLists(b *testing.B, dir string) time.Duration {
	start := time.Now()
	x := newBare(b)
	at := map[string]int64{}
	rows := func(name string, put func(r []string) error) {
		f, err := os.Open(filepath.Join(dir, name))
		require.NoError(b, err)
		defer f.Close()
		in := csv.NewReader(bufio.NewReader(f))
		in.ReuseRecord = true
		for first := true; ; first = false {
			r, err := in.Read()
			if err == io.EOF {
				return
			}
			require.NoError(b, err)
			if !first {
				require.NoError(b, put(r))
			}
		}
	}
	rows("accounts.csv", func(r []string) error {
		id := int64(len(at) + 1)
		at[strings.Clone(r[1])] = id
		_, err := x.account.Exec(id, r[1], r[2])
		return err
	})
	rows("members.csv", func(r []string) error {
		_, err := x.member.Exec(at[r[0]], at[r[1]])
		return err
	})
	x.kept()
	return time.Since(start)
}

// BenchmarkLists loads the accounts and memberships of an estate of homes from CSV, and
// gives the time as a ratio to reading and inserting them bare in the same run.
// TARNWOLD_HOMES says how many homes there are.
func BenchmarkLists(b *testing.B) {
	users := 5_000
	if n, err := strconv.Atoi(os.Getenv("TARNWOLD_HOMES")); err == nil {
		users = n
	}
	h := &homes{prog: program(b), peak: programAs(b, "peak"), dir: b.TempDir()}
	h.file = filepath.Join(h.dir, "homes.estate")
	require.NoError(b, estates.Homes{Users: users, PerHome: 1, Groups: max(40, users/10)}.Write(h.dir))
	for b.Loop() {
		h.run(b, "init")
		took, most := h.run(b, "load", "accounts", filepath.Join(h.dir, "accounts.csv"), filepath.Join(h.dir, "members.csv"))
		bare := bareLists(b, h.dir)
		b.ReportMetric(took.Seconds(), "s/load")
		b.ReportMetric(bare.Seconds(), "s/bare")
		b.ReportMetric(took.Seconds()/bare.Seconds(), "load/bare")
		b.ReportMetric(float64(most)/(1<<20), "MB")
		require.NoError(b, os.Remove(h.file))
	}
}

// barePeople reads the lines of such a file and puts them in.
func barePeople(b *testing.B, file string) time.Duration {
	start := time.Now()
	f, err := os.Open(file)
	require.NoError(b, err)
	defer f.Close()
	x := newBare(b)
	at := map[string]int64{}
	var dn, name, sid string
	var members []string
	put := func() {
		if dn == "" {
			return
		}
		id := int64(len(at) + 1)
		at[dn] = id
		_, err := x.account.Exec(id, name, sid)
		require.NoError(b, err)
		for _, m := range members {
			_, err := x.member.Exec(id, at[m])
			require.NoError(b, err)
		}
		dn, members = "", members[:0]
	}
	in := bufio.NewScanner(f)
	for in.Scan() {
		key, value, _ := strings.Cut(in.Text(), ": ")
		switch key {
		case "":
			put()
		case "dn":
			dn = value
		case "sAMAccountName":
			name = value
		case "objectSid":
			sid = value
		case "member":
			members = append(members, value)
		}
	}
	put()
	require.NoError(b, in.Err())
	x.kept()
	return time.Since(start)
}

// BenchmarkPeople loads 100,000 users and 20,000 groups from LDIF, and the same
// again, and gives the time as a ratio to reading and inserting them bare in the
// same run. TARNWOLD_PEOPLE gives another number of users.
func BenchmarkPeople(b *testing.B) {
	users := 100_000
	if n, err := strconv.Atoi(os.Getenv("TARNWOLD_PEOPLE")); err == nil {
		users = n
	}
	dir := b.TempDir()
	ldif := filepath.Join(dir, "people.ldif")
	manyPeople(b, ldif, users, users/5)
	for b.Loop() {
		e := filepath.Join(dir, "people.estate")
		require.NoError(b, estate.Create(context.Background(), e))
		load := func() float64 {
			start := time.Now()
			require.Zero(b, cli.Main([]string{"--estate", e, "load", "accounts", "--ldif", ldif, "--yes"}, strings.NewReader(""), io.Discard, io.Discard))
			return time.Since(start).Seconds()
		}
		first, again, bare := load(), load(), barePeople(b, ldif).Seconds()
		b.ReportMetric(first, "s/first")
		b.ReportMetric(again, "s/again")
		b.ReportMetric(bare, "s/bare")
		b.ReportMetric(first/bare, "first/bare")
		b.ReportMetric(again/first, "again/first")
		require.NoError(b, os.Remove(e))
	}
}
