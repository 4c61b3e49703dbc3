package plan_test

import (
	"context"
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"tarnwold/core/place"
	"tarnwold/core/rule"
	"tarnwold/internal/estate"
	"tarnwold/internal/format"
	"tarnwold/internal/plan"
	"tarnwold/internal/plan/intake"
	"tarnwold/internal/plan/undo"
	"tarnwold/internal/proptest"
	"tarnwold/internal/server"
)

// found is the estate's tree as a scan of a server would find it, where
// somebody has changed rules, made things and taken things away.
func (w *world) found(met map[string]int) *intake.ScannedTree {
	var bodies []rule.Any
	var rows []format.TreeRow
	body := func(d *rule.Descriptor) int32 {
		bodies = append(bodies, d)
		return int32(len(bodies) - 1)
	}
	gone := map[string]bool{}
	news := 0
	require.NoError(w.t, w.e.View(ctx, func(t *estate.Tx) error {
		s, err := t.Server("box")
		require.NoError(w.t, err)
		at, err := t.At(s, "/srv")
		require.NoError(w.t, err)
		for _, item := range t.Subtree(at.Item, 1<<20) {
			p := t.Place(item)
			path, _ := place.Cut(p.Path, "/srv")
			up := place.Dir("/" + path)[1:]
			if path != "" && (gone[up] || rapid.IntRange(0, 7).Draw(w.t, "goes") == 0) {
				gone[path] = true
				met["goes"]++
				continue
			}
			d := t.Of(p.Strand).Listed()
			if rapid.IntRange(0, 4).Draw(w.t, "turns") == 0 {
				d = d.Clone()
				d.Rules.Entries = append(d.Rules.Entries, w.entry(3))
				met["turns"]++
			}
			folder := p.Folder
			if path != "" && rapid.IntRange(0, 15).Draw(w.t, "is another thing") == 0 {
				folder = !folder
				met["another"]++
				if !folder {
					gone[path] = true // and what was in it
				}
			}
			rows = append(rows, format.TreeRow{Path: path, Folder: folder, Body: body(d)})
			if folder && rapid.IntRange(0, 3).Draw(w.t, "comes") == 0 {
				news++
				name := strings.TrimPrefix(fmt.Sprintf("%s/new %d", path, news), "/")
				child := rule.NewChild(d, true, dom.Child(1001), dom.Child(2000), nil)
				rows = append(rows, format.TreeRow{Path: name, Folder: true, Body: body(child)},
					format.TreeRow{Path: name + "/in it", Body: body(rule.NewChild(child, false, dom.Child(1002), dom.Child(2000), nil))})
				met["comes"]++
			}
		}
		return t.Err()
	}))
	tree, err := format.NewTree(bodies, rows)
	require.NoError(w.t, err)
	return &intake.ScannedTree{Share: "all", Folder: "/srv", Tree: tree}
}

// TestTakingInIsWhatIsThere: what a scan finds is taken in just as it is,
// nothing following below; the impact is that of deciding each user before and
// after; afterwards nothing differs, and rules are taken back whole.
func TestTakingInIsWhatIsThere(t *testing.T) {
	met := map[string]int{}
	rapid.Check(t, func(rt *rapid.T) {
		w := entryWorld(t, rt)
		x := w.found(met)
		var s estate.Server
		require.NoError(rt, w.e.View(ctx, func(t *estate.Tx) (err error) {
			s, err = t.Server("box")
			return err
		}))
		state := w.state()
		var rules int64
		for _, fn := range []func(d *plan.Planner) (*plan.Plan, error){
			func(d *plan.Planner) (*plan.Plan, error) { return intake.ChangedRules(d, s, []*intake.ScannedTree{x}) },
			func(d *plan.Planner) (*plan.Plan, error) { return intake.NewAndGone(d, s, []*intake.ScannedTree{x}) },
		} {
			p, err := w.work(fn)
			require.NoError(rt, err)
			require.True(rt, p.IsSo)
			if !p.Changes() {
				continue
			}
			var out []plan.Outbound
			_, err = w.work(func(d *plan.Planner) (*plan.Plan, error) {
				out, err = d.Outbound(p)
				return p, err
			})
			require.NoError(rt, err)
			require.Empty(rt, out, "what is so there is written nowhere")
			before := w.access()
			id, err := w.e.Change(ctx, p.Meta("test"), p.Keep)
			require.NoError(rt, err)
			require.Equal(rt, w.shifts(before, w.access()), shifts(p), p.Change)
			if rules == 0 && strings.Contains(p.Change, "changed rules") {
				rules = id
				require.NotZero(rt, w.keep(func(d *plan.Planner) (*plan.Plan, error) { return undo.Undo(d, id, false) }), "%v", w.refused)
				require.Equal(rt, state, w.state())
				require.NotZero(rt, w.keep(func(d *plan.Planner) (*plan.Plan, error) { return undo.Redo(d, id, false) }), "%v", w.refused)
			}
		}
		_, err := w.work(func(d *plan.Planner) (*plan.Plan, error) {
			var found []server.Share
			for _, sh := range d.T.Shares(s) {
				found = append(found, server.Share{Name: sh.Name, Folder: sh.Folder, Rules: sh.Descriptor})
			}
			f, err := intake.DriftOf(d, s, found, []*intake.ScannedTree{x}, 0)
			require.NoError(rt, err)
			require.Empty(rt, f.Lines)
			require.Equal(rt, x.Tree.Len(), f.Alike)
			top, err := d.T.At(s, "/srv")
			require.NoError(rt, err)
			have := map[string]bool{}
			for _, item := range d.T.Subtree(top.Item, 1<<20) {
				p := d.T.Place(item)
				path, _ := place.Cut(p.Path, "/srv")
				have[fmt.Sprint(path, " ", p.Folder)] = true
			}
			for i := range x.Tree.Len() {
				r := x.Tree.Row(i)
				require.True(rt, have[fmt.Sprint(r.Path, " ", r.Folder)], "%s", r.Path)
			}
			require.Len(rt, have, x.Tree.Len(), "nothing else is there")
			return d.NewPlan(""), nil
		})
		require.NoError(rt, err)
		faults := 0
		require.NoError(rt, w.e.View(context.Background(), func(t *estate.Tx) error {
			faults = len(t.Check(func(string) {}))
			return t.Err()
		}))
		require.Zero(rt, faults)
	})
	t.Log(met)
	for _, what := range []string{"goes", "turns", "comes", "another"} {
		proptest.Reached(t, met[what], 5, what)
	}
}
