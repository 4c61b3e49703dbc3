package plan_test

import (
	"fmt"
	"slices"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	acc "tarnwold/core/account"
	"tarnwold/core/place"
	"tarnwold/internal/estate"
	"tarnwold/internal/plan"
	"tarnwold/internal/plan/keeper"
	"tarnwold/internal/proptest"
)

// TestOnlyKeepersChangeWhatIsKept: a plan that no keeper makes, and that no
// guard of keepers stops, changes nobody's access to any kept place, nor who is
// in any kept group.
func TestOnlyKeepersChangeWhatIsKept(t *testing.T) {
	met := map[string]int{}
	rapid.Check(t, func(rt *rapid.T) {
		w := newWorld(t, rt)
		paths, _ := w.all()
		kept := map[string]bool{}
		for range rapid.IntRange(1, 2).Draw(rt, "kept places") {
			of := rapid.SampledFrom(paths).Draw(rt, "kept")
			if w.keep(func(d *plan.Planner) (*plan.Plan, error) { return keeper.AddKeeper(d, "u0", []string{of}) }) != 0 {
				kept[of] = true
			}
		}
		group := fmt.Sprint("g", rapid.IntRange(0, 3).Draw(rt, "kept group"))
		w.keep(func(d *plan.Planner) (*plan.Plan, error) {
			return keeper.AddKeeper(d, "u0", []string{"group:" + group})
		})
		members := func() (names []string) {
			require.NoError(rt, w.e.View(ctx, func(tx *estate.Tx) error {
				g, err := tx.Named(group, acc.Group)
				if err != nil {
					return nil
				}
				for _, m := range tx.Directory().MembersBelow(g.ID) {
					names = append(names, m.ID.String())
				}
				for _, u := range tx.Accounts(acc.User) {
					if u.Primary == g.ID {
						names = append(names, "first "+u.Name)
					}
				}
				slices.Sort(names)
				return tx.Err()
			}))
			return names
		}
		inKept := func() map[string]bool { // items by number
			out := map[string]bool{}
			require.NoError(rt, w.e.View(ctx, func(tx *estate.Tx) error {
				for _, top := range tx.TopItems() {
					for _, id := range tx.Subtree(top, 10_000) {
						a, err := place.ParsePlain(tx.Where(id))
						require.NoError(rt, err)
						for of := range kept {
							b, err := place.ParsePlain(of)
							require.NoError(rt, err)
							if place.Under(a.Path, b.Path) {
								out[strconv.FormatInt(id, 10)] = true
							}
						}
					}
				}
				return tx.Err()
			}))
			return out
		}
		rules := func() map[string]string { // of what is kept
			out := map[string]string{}
			kept := inKept()
			require.NoError(rt, w.e.View(ctx, func(tx *estate.Tx) error {
				for id := range kept {
					n, _ := strconv.ParseInt(id, 10, 64)
					row, ok := tx.ItemRow(n)
					require.True(rt, ok)
					_, body, err := estate.Encode(tx.Of(row.Strand))
					require.NoError(rt, err)
					out[id] = string(body)
				}
				return tx.Err()
			}))
			return out
		}
		for range 6 {
			kind, fn := w.anyPlan()
			before, was, mine, had := w.access(), members(), inKept(), rules()
			p, err := w.work(fn)
			if err != nil || !p.Changes() {
				continue
			}
			stopped := slices.ContainsFunc(p.Warnings, func(x plan.Warning) bool { return x.Guard == "kept" })
			_, err = w.e.Change(ctx, p.Meta("test"), p.Keep)
			require.NoError(rt, err, kind)
			if p.Ends { // what is over is nobody's any more
				continue
			}
			after := w.access()
			differs := ""
			for _, side := range []map[string]bool{mine, inKept()} {
				for k := range before {
					if id, _, _ := strings.Cut(k, "|"); side[id] && before[k] != after[k] && !(w.nothing(before[k]) && w.nothing(after[k])) {
						differs = fmt.Sprintf("%s: %s → %s", k, before[k], after[k])
					}
				}
				for k := range after {
					if id, _, _ := strings.Cut(k, "|"); side[id] && before[k] == 0 && !w.nothing(after[k]) {
						differs = fmt.Sprintf("%s: nothing → %s", k, after[k])
					}
				}
			}
			for id, body := range rules() {
				if was, ok := had[id]; ok && was != body {
					differs += "; the rules of item " + id
				}
			}
			if now := members(); !slices.Equal(was, now) {
				differs += fmt.Sprintf("; members %v → %v", was, now)
			}
			switch {
			case differs != "" && stopped:
				met["stopped "+kind]++
			case differs != "":
				require.Fail(rt, "a plan changes what is kept and isn't stopped", "%s: %s: %s\nkept: %v\nwarnings: %+v", kind, p.Change, differs, kept, p.Warnings)
			case stopped:
				met["stopped, and changes nobody's access"]++
			default:
				met["passed"]++
			}
		}
	})
	t.Log(met)
	proptest.Reached(t, met["passed"], 0, "plans that are no keeper's matter")
	proptest.Reached(t, len(met), 12, "nearly every kind of plan")
}
