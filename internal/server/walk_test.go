package server

import (
	"context"
	"errors"
	"sort"
	"strings"
	"sync"
	"testing"

	"github.com/stretchr/testify/require"
)

// walked walks a made-up tree, three folders in each, by some workers.
func walked(t *testing.T, how Reading, bad string) (seen []string, left []int, err error) {
	tell := func(x Item) error {
		if x.Whole {
			left = append(left, x.Left)
			return nil
		}
		seen = append(seen, x.Path)
		return nil
	}
	w, ctx, end, err := StartWalk(context.Background(), how, func() (Item, error) { return Item{Folder: true, Enter: true}, nil }, tell)
	require.NoError(t, err)
	defer end()
	var wg sync.WaitGroup
	for range 4 {
		wg.Go(func() {
			w.Work(ctx, func(dir string) error {
				if dir == bad {
					return errors.New("bad disk")
				}
				var items []Item
				for _, n := range []string{"a", "b", "c"} {
					items = append(items, Item{Path: strings.TrimPrefix(dir+"/"+n, "/"), Folder: true, Enter: w.Below(dir)})
				}
				if err := w.Tell(items...); err != nil {
					return err
				}
				return w.Whole(dir)
			})
		})
	}
	wg.Wait()
	sort.Strings(seen)
	return seen, left, context.Cause(ctx)
}

// TestWalk: each folder once, no deeper than was said, and only what was known
// where something was; the first that fails ends it for all.
func TestWalk(t *testing.T) {
	seen, left, err := walked(t, Reading{Depth: 4}, "no such")
	require.NoError(t, err)
	require.Len(t, seen, 1+3+9+27+81)
	for i := 1; i < len(seen); i++ {
		require.NotEqual(t, seen[i-1], seen[i])
	}
	require.Len(t, left, 1+3+9+27)
	require.Zero(t, left[len(left)-1], "nothing is left at the end")

	seen, _, err = walked(t, Reading{Depth: 2, From: []string{"b"}}, "no such")
	require.NoError(t, err)
	require.Equal(t, []string{"b/a", "b/b", "b/c"}, seen)

	_, _, err = walked(t, Reading{Depth: 4}, "a/b")
	require.EqualError(t, err, "bad disk")

	w, _, end, err := StartWalk(context.Background(), Reading{From: []string{"b"}}, nil, func(Item) error { return errors.New("full") })
	require.NoError(t, err)
	defer end()
	require.EqualError(t, w.Tell(Item{Path: "x"}), "full")
	_, _, _, err = StartWalk(context.Background(), Reading{}, func() (Item, error) { return Item{}, errors.New("gone") }, nil)
	require.EqualError(t, err, "gone")
}
