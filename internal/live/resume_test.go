package live

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"runtime"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"tarnwold/core/account"
	"tarnwold/internal/estate"
	"tarnwold/internal/proptest"
	"tarnwold/internal/server"
)

// made is a server that never was: folders with so much in each. It breaks off
// after so many tellings.
type made struct {
	in     map[string][]server.Item
	breaks int
	order  func(n int) int // which of the folders that are left is read next
}

var errOff = errors.New("broken off")

func (m *made) Shares(context.Context) ([]server.Share, error) {
	return []server.Share{{Name: "all", Folder: "/srv", Rules: some(1)}}, nil
}

func (m *made) Accounts(context.Context) ([]server.Account, []server.Member, error) {
	return nil, nil, nil
}
func (m *made) Names(context.Context, []account.ID) ([]server.Account, error) { return nil, nil }
func (m *made) Close()                                                        {}
func (m *made) Look(context.Context, string, string, bool) (server.Item, error) {
	return server.Item{Folder: true, Enter: true, Rules: some(1)}, nil
}

func (m *made) Scan(_ context.Context, _ string, how server.Reading, fn func(server.Item) error) error {
	tell := func(x server.Item) error {
		if m.breaks--; m.breaks < 0 {
			return errOff
		}
		return fn(x)
	}
	left := how.From
	if left == nil {
		if err := tell(server.Item{Folder: true, Enter: true, Rules: some(1)}); err != nil {
			return err
		}
		left = []string{""}
	}
	at := map[string]int{} // several folders are read at once
	for len(left) > 0 {
		i := m.order(len(left))
		dir := left[i]
		if at[dir] == len(m.in[dir]) {
			left = append(append([]string{}, left[:i]...), left[i+1:]...)
			if err := tell(server.Item{Path: dir, Folder: true, Whole: true, Left: len(left)}); err != nil {
				return err
			}
			continue
		}
		x := m.in[dir][at[dir]]
		at[dir]++
		if err := tell(x); err != nil {
			return err
		}
		if x.Enter {
			left = append(left, x.Path)
		}
	}
	return nil
}

// TestBrokenOffHoweverOften: a scan that is broken off again and again, and
// gone on with each time, sees in the end what one sees that isn't.
func TestBrokenOffHoweverOften(t *testing.T) {
	dir := t.TempDir()
	tries := 0
	rapid.Check(t, func(rt *rapid.T) {
		m := &made{in: map[string][]server.Item{}, order: func(n int) int { return rapid.IntRange(0, n-1).Draw(rt, "next") }}
		folders, notes := []string{""}, 0
		want := map[string]int64{"": 0}
		for i := range rapid.IntRange(1, 25).Draw(rt, "items") {
			in := rapid.SampledFrom(folders).Draw(rt, "in")
			x := server.Item{Path: strings.TrimPrefix(fmt.Sprintf("%s/i%d", in, i), "/"), Rules: some(i % 3), Size: int64(i)}
			switch rapid.IntRange(0, 3).Draw(rt, "kind") {
			case 0, 1:
				x.Folder, x.Enter, x.Size = true, true, 0
				folders = append(folders, x.Path)
			case 2:
				x.Folder, x.Size, x.Notes = true, 0, []server.Note{server.Mounted}
				notes++
			}
			want[x.Path] = x.Size
			m.in[in] = append(m.in[in], x)
		}
		job := Scan{Server: estate.Server{Name: "box"}, Spool: filepath.Join(dir, "spool")}
		var seen *Seen
		off := 0
		for {
			m.breaks = rapid.IntRange(2, 20).Draw(rt, "breaks")
			var err error
			seen, err = job.Read(context.Background(), m)
			if err == nil {
				break
			}
			require.ErrorIs(rt, err, errOff)
			job.Resume = true
			tries++
			if off++; off == 6 { // some never get through a folder
				m.breaks = 1000
				seen, err = job.Read(context.Background(), m)
				require.NoError(rt, err)
				break
			}
		}
		defer seen.Close()
		x := seen.Trees[0]
		require.NoError(rt, x.Tree.Arrange())
		got := map[string]int64{}
		for i := range x.Tree.Len() {
			r := x.Tree.Row(i)
			got[r.Path] = r.Facts.Size
		}
		require.Equal(rt, want, got)
		require.Len(rt, x.Unread, notes, "what is mounted there is not gone")
		if notes > 0 {
			require.Equal(rt, notes, seen.Notes[0].Items)
		}
	})
	proptest.Reached(t, tries, 100, "tries")
	left, err := os.ReadDir(dir)
	require.NoError(t, err)
	if runtime.GOOS != "windows" {
		require.Len(t, left, 1, "the spool alone is left")
	}
}
