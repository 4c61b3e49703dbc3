package plan_test

import (
	"fmt"
	"slices"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"tarnwold/core/account"
	"tarnwold/core/rule"
	"tarnwold/internal/ask"
	"tarnwold/internal/ask/census"
	"tarnwold/internal/estate"
	"tarnwold/internal/format/workbook"
	"tarnwold/internal/plan"
	"tarnwold/internal/plan/entry"
	"tarnwold/internal/proptest"
)

// regridded is a grid as its workbook has it.
type regridded struct {
	heads, ids []string
	rows       [][]string
}

func (w *world) grid(e *estate.Estate, at string) (g regridded) {
	require.NoError(w.t, e.View(ctx, func(tx *estate.Tx) error {
		return census.Grid(ask.New(tx), census.Gridding{Where: at, Depth: 5, Files: true, For: []string{"g0", "g1", "g2", w.users[0], w.users[1], w.users[2]}}, func(h *census.Gridded) error {
			for _, a := range h.Accounts {
				g.heads, g.ids = append(g.heads, a.Name), append(g.ids, a.ID)
			}
			return nil
		}, func(r *census.GridRow) error {
			row := []string{r.Where}
			for _, c := range r.Cells {
				row = append(row, c.Text())
			}
			g.rows = append(g.rows, row)
			return nil
		})
	}))
	return g
}

// sheets is the workbook of a grid in which cells were changed.
func (g *regridded) sheets(changed [][]string) []workbook.Sheet {
	heads := append([]string{"where"}, g.heads...)
	return []workbook.Sheet{
		{Name: "Answer", Rows: append([][]string{heads}, changed...)},
		{Name: workbook.BehindName, Hidden: true, Rows: workbook.Behind(append([]string{""}, g.ids...), heads, g.rows)},
	}
}

// eachItem calls fn with every item of an estate.
func (w *world) eachItem(e *estate.Estate, fn func(tx *estate.Tx, p estate.Place)) {
	require.NoError(w.t, e.View(ctx, func(tx *estate.Tx) error {
		for _, top := range tx.TopItems() {
			for _, id := range tx.Subtree(top, 10_000) {
				fn(tx, tx.Place(id))
			}
		}
		return tx.Err()
	}))
}

// ownEntries lists the entries that are set on each item, but those of some accounts on some.
func (w *world) ownEntries(e *estate.Estate, but map[string]bool) (out []string) {
	w.eachItem(e, func(tx *estate.Tx, p estate.Place) {
		d, ok := tx.Of(p.Strand).(*rule.Descriptor)
		if !ok {
			return
		}
		for _, x := range d.Rules.Own() {
			if x.Kind != rule.Allow || !but[fmt.Sprint(p.Item, " ", x.Who)] {
				out = append(out, fmt.Sprintf("%d %v", p.Item, x))
			}
		}
	})
	return out
}

// TestAGridGivenBackIsItsDifference: what was changed in a grid's workbook is said by the
// grid afterwards, or it is refused; and nothing else is set anywhere.
func TestAGridGivenBackIsItsDifference(t *testing.T) {
	met := map[string]int{}
	rapid.Check(t, func(rt *rapid.T) {
		w := newWorld(t, rt)
		paths, folders := w.all()
		if len(folders) == 0 {
			return
		}
		for range 3 {
			at := rapid.SampledFrom(paths).Draw(rt, "at")
			g := w.grid(w.e, at)
			changed := make([][]string, len(g.rows))
			but := map[string]bool{}
			n, items, folder := 0, map[string]int64{}, map[string]bool{}
			require.NoError(rt, w.e.View(ctx, func(tx *estate.Tx) error {
				for _, r := range g.rows {
					p, err := ask.New(tx).Place(r[0])
					require.NoError(rt, err)
					items[r[0]], folder[r[0]] = p.Item, p.Folder
				}
				return nil
			}))
			for i, r := range g.rows {
				changed[i] = slices.Clone(r)
				for j := 1; j < len(r); j++ {
					if rapid.IntRange(0, 9).Draw(rt, "touched") > 1 {
						continue
					}
					levels := []string{"nothing", "read", "edit", "full"}
					if folder[r[0]] { // a file has no others
						levels = append(levels, "list", "add")
					}
					level := rapid.SampledFrom(levels).Draw(rt, "level")
					changed[i][j] = level
					if level != r[j] {
						n++
						id, err := account.ParseID(g.ids[j-1])
						if err == nil {
							but[fmt.Sprint(items[r[0]], " ", id)] = true
						}
					}
				}
			}
			if rapid.Bool().Draw(rt, "sorted otherwise") {
				slices.Reverse(changed)
			}
			cells, err := workbook.Differences(g.sheets(changed), "g.xlsx")
			require.NoError(rt, err)
			require.Len(rt, cells, n)
			if n == 0 {
				continue
			}
			var r *entry.Regridded
			p, err := w.work(func(d *plan.Planner) (_ *plan.Plan, err error) {
				if r, err = entry.Regrid(d, cells, "g.xlsx"); err != nil {
					return nil, err
				}
				return r.Plan, nil
			})
			if err != nil {
				met["refused"]++
				continue
			}
			before := w.ownEntries(w.e, but)
			require.NoError(rt, w.e.Private(ctx, func(e *estate.Estate) error {
				if p.Changes() {
					if _, err := e.Change(ctx, p.Meta("test"), p.Keep); err != nil {
						return err
					}
				}
				require.Equal(rt, before, w.ownEntries(e, but), "entries of others, or elsewhere")
				return e.View(ctx, func(tx *estate.Tx) error {
					unmet := r.Unmet(ask.New(tx))
					if unmet != nil {
						met["can't be so"]++
						return nil
					}
					met["made"]++
					return nil
				})
			}))
			// What is said to be unmet is what a new grid says too.
			after := w.gridAfter(p, at)
			wrong := 0
			for _, c := range cells {
				if !after.says(c.Where, c.Who, c.Is) {
					wrong++
				}
			}
			require.NoError(rt, w.e.Private(ctx, func(e *estate.Estate) error {
				if p.Changes() {
					if _, err := e.Change(ctx, p.Meta("test"), p.Keep); err != nil {
						return err
					}
				}
				return e.View(ctx, func(tx *estate.Tx) error {
					if w.posix { // there a level stands for permissions
						return nil
					}
					require.Equal(rt, wrong > 0, r.Unmet(ask.New(tx)) != nil, "%d of %d", wrong, n)
					return nil
				})
			}))
			if w.posix {
				continue
			}
			if wrong == 0 && p.Changes() {
				_, err := w.e.Change(ctx, p.Meta("test"), p.Keep)
				require.NoError(rt, err)
			}
			// Who was given an old grid is told.
			if again := w.grid(w.e, at); wrong == 0 && p.Changes() {
				stale, err := workbook.Differences(g.sheets(againWithOneChanged(again, g)), "g.xlsx")
				require.NoError(rt, err)
				if len(stale) > 0 {
					met["stale"]++
					_, err := w.work(func(d *plan.Planner) (*plan.Plan, error) {
						x, err := entry.Regrid(d, stale, "g.xlsx")
						if err != nil {
							return nil, err
						}
						return x.Plan, nil
					})
					require.ErrorContains(rt, err, "when the grid was written")
				}
			}
		}
	})
	t.Log(met)
	proptest.Reached(t, met["made"], 8, "grids made so")
	proptest.Reached(t, met["can't be so"], 8, "grids that can't be so")
}

// againWithOneChanged gives the rows of an old grid with one cell, which has something else
// by now, changed to what is neither; none where there is no such cell.
func againWithOneChanged(now, old regridded) [][]string {
	for i := range old.rows {
		for j := 1; j < len(old.rows[i]); j++ {
			if old.rows[i][j] != now.rows[i][j] {
				for _, level := range []string{"list", "drop", "add"} {
					if !says(now.rows[i][j], level) && !says(old.rows[i][j], level) {
						row := slices.Clone(old.rows[i])
						row[j] = level
						return [][]string{row}
					}
				}
			}
		}
	}
	return nil
}

func (w *world) gridAfter(p *plan.Plan, at string) (g regridded) {
	require.NoError(w.t, w.e.Private(ctx, func(e *estate.Estate) error {
		if p.Changes() {
			if _, err := e.Change(ctx, p.Meta("test"), p.Keep); err != nil {
				return err
			}
		}
		g = w.grid(e, at)
		return nil
	}))
	return g
}

// says tells whether a grid's cell says a level.
func (g *regridded) says(where, who, level string) bool {
	col := slices.Index(g.heads, who) + 1
	for _, r := range g.rows {
		if r[0] == where {
			return says(r[col], level)
		}
	}
	return false
}

func says(cell, level string) bool {
	for _, m := range []string{" +-", " +", " -"} {
		if len(cell) > len(m) && cell[len(cell)-len(m):] == m {
			cell = cell[:len(cell)-len(m)]
			break
		}
	}
	return cell == level
}
