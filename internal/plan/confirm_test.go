package plan_test

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	acc "tarnwold/core/account"
	"tarnwold/core/posix"
	"tarnwold/core/rule"
	"tarnwold/internal/estate"
	"tarnwold/internal/format/workbook"
	"tarnwold/internal/plan"
	"tarnwold/internal/plan/confirm"
	"tarnwold/internal/plan/keeper"
	"tarnwold/internal/proptest"
)

// set lists what a review may be of, as it is: each allow entry that is set on an item or a
// share, whom each list of a POSIX tree names, and each membership.
func (w *world) set() map[string]bool {
	out := map[string]bool{}
	w.eachItem(w.e, func(tx *estate.Tx, p estate.Place) {
		switch d := tx.Of(p.Strand).(type) {
		case *rule.Descriptor:
			for _, e := range d.Rules.Own() {
				out[fmt.Sprintf("entry %s %s %v", p, tx.Name(e.Who), e)] = true
			}
		case *posix.Rules:
			for _, e := range d.Access {
				if e.Tag == posix.User || e.Tag == posix.Group {
					out[fmt.Sprintf("entry %s %s", p, tx.Name(tx.AccountOf(e.Who)))] = true
				}
			}
		}
	})
	require.NoError(w.t, w.e.View(ctx, func(tx *estate.Tx) error {
		for _, s := range tx.Servers() {
			for _, sh := range tx.Shares(s) {
				if sh.Descriptor != nil {
					for _, e := range sh.Descriptor.Rules.Entries {
						out[fmt.Sprintf("share %s %s %v", sh.Address(), tx.Name(e.Who), e)] = true
					}
				}
			}
		}
		for _, g := range tx.Accounts(acc.Group) {
			for _, m := range tx.MembersOf(g.ID) {
				out[fmt.Sprintf("member group %s %s", tx.Name(g.ID), tx.Name(m))] = true
			}
		}
		return tx.Err()
	}))
	return out
}

// TestAReviewTakesJustWhatWasAnswered: whatever keepers answered, and whatever others change
// meanwhile, closing a review takes away just what was answered so by all who were asked, and
// nothing that wasn't.
func TestAReviewTakesJustWhatWasAnswered(t *testing.T) {
	met := map[string]int{}
	rapid.Check(t, func(rt *rapid.T) {
		w := newWorld(t, rt)
		paths, folders := w.all()
		if len(folders) == 0 {
			return
		}
		for range rapid.IntRange(1, 4).Draw(rt, "keepers") {
			who := rapid.SampledFrom(w.who[:8]).Draw(rt, "keeper")
			of := rapid.SampledFrom([]string{"group:g1", "group:g*", folders[0], rapid.SampledFrom(paths).Draw(rt, "place")}).Draw(rt, "of")
			w.keep(func(d *plan.Planner) (*plan.Plan, error) { return keeper.AddKeeper(d, who, []string{of}) })
		}
		s := confirm.Starting{Name: "winter", By: "keepers"}
		if rapid.Bool().Draw(rt, "of one place") {
			s.Of = []string{rapid.SampledFrom(paths).Draw(rt, "reviewed")}
		}
		begun, _ := w.work(func(d *plan.Planner) (*plan.Plan, error) { return confirm.Start(d, s) })
		if w.keep(func(d *plan.Planner) (*plan.Plan, error) { return confirm.Start(d, s) }) == 0 {
			met["nothing to review"]++
			return
		}
		// Everybody says something of some of theirs.
		rows := map[string]bool{}
		said := map[string]map[string]bool{} // by row: what is said of it
		var answers []*workbook.Answers
		require.NoError(rt, w.e.View(ctx, func(tx *estate.Tx) error {
			r, err := confirm.Find(tx, "winter")
			require.NoError(rt, err)
			return confirm.PartsOf(plan.New(tx, "outsider"), r, nil, func(x *confirm.PartRows) error {
				require.Zero(rt, x.Gone)
				a := &workbook.Answers{Review: "winter", Part: x.Who, Wrong: func(int, string, string, ...any) error { return fmt.Errorf("wrong") }}
				for _, r := range x.Rows {
					says := rapid.SampledFrom([]string{"", confirm.Keep, confirm.Take, confirm.Take, confirm.Ask}).Draw(rt, "says")
					a.Rows = append(a.Rows, workbook.AnswerRow{Key: r.Key, Answer: says})
					rows[r.Key] = true
					if says != "" {
						if said[r.Key] == nil {
							said[r.Key] = map[string]bool{}
						}
						said[r.Key][says] = true
					}
				}
				answers = append(answers, a)
				return nil
			})
		}))
		require.Regexp(rt, fmt.Sprintf("begun: %d rows?$", len(rows)), begun.Change, "each once")
		for _, a := range answers {
			w.keep(func(d *plan.Planner) (*plan.Plan, error) { return confirm.Answered(d, a) })
		}
		// Somebody else changes something meanwhile.
		for range rapid.IntRange(0, 2).Draw(rt, "meanwhile") {
			_, fn := w.anyPlan()
			w.keep(fn)
		}
		before := w.set()
		still := map[string]confirm.PartRow{} // rows that are just so still
		require.NoError(rt, w.e.View(ctx, func(tx *estate.Tx) error {
			r, err := confirm.Find(tx, "winter")
			if err != nil {
				return nil // undone meanwhile
			}
			return confirm.PartsOf(plan.New(tx, "outsider"), r, nil, func(x *confirm.PartRows) error {
				for _, r := range x.Rows {
					still[r.Key] = r
				}
				return nil
			})
		}))
		var c *confirm.Closing
		p, err := w.work(func(d *plan.Planner) (p *plan.Plan, err error) { p, c, err = confirm.Close(d, "winter"); return p, err })
		if err != nil {
			met["refused"]++
			return
		}
		goes := map[string]int{}
		taken, disagreed := 0, 0
		for key, r := range still {
			switch {
			case len(said[key]) > 1:
				disagreed++
			case said[key][confirm.Take]:
				taken++
				goes[r.Kind+" "+r.Where+" "+r.Who]++
			}
		}
		require.Equal(rt, taken, c.Taken, "taken away")
		require.Len(rt, c.Disagreed, disagreed)
		_, err = w.e.Change(ctx, p.Meta("test"), p.Keep)
		require.NoError(rt, err)
		after := w.set()
		gone := map[string]int{}
		for x := range before {
			if after[x] {
				continue
			}
			at := ""
			for k := range goes {
				if x == k || len(x) > len(k) && x[:len(k)+1] == k+" " {
					at = k
				}
			}
			if at == "" && w.posix { // what a folder's list hands down goes with it
				f := strings.Fields(x)
				for k := range goes {
					if g := strings.Fields(k); g[0] == f[0] && g[2] == f[2] && strings.HasPrefix(f[1], strings.TrimSuffix(g[1], "/")+"/") {
						at = k
					}
				}
			}
			require.NotEmpty(rt, at, "%s went, and nobody said so", x)
			gone[at]++
		}
		for k, n := range goes {
			if w.posix && gone[k] > 0 {
				continue // what a list has of somebody goes at once
			}
			require.Equal(rt, n, gone[k], k)
		}
		for x := range after {
			require.True(rt, before[x] || w.posix, "%s came", x)
		}
		met["taken"] += taken
		met["disagreed"] += disagreed
		met["closed"]++
	})
	t.Log(met)
	proptest.Reached(t, met["taken"], 30, "rows taken away")
	proptest.Reached(t, met["disagreed"], 1, "rows that two disagree on")
}
