package plan_test

import (
	"encoding/json"
	"fmt"
	"slices"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	acc "tarnwold/core/account"
	"tarnwold/internal/estate"
	"tarnwold/internal/format/shape"
	"tarnwold/internal/plan"
	"tarnwold/internal/plan/intake"
	"tarnwold/internal/plan/servers"
	"tarnwold/internal/plan/undo"
	"tarnwold/internal/proptest"
)

// inDirectory draws what a directory has: the world's own people, some of them, and
// others, under names that may be another's.
func (w *world) inDirectory() *shape.People {
	f := &shape.People{Left: map[string]int{}, Former: rapid.IntRange(0, 3).Draw(w.t, "tells of former ones") > 0}
	names := map[string]bool{}
	for i := range 6 {
		for _, kind := range []acc.Kind{acc.User, acc.Group} {
			at := uint32(kind) * 1000
			if rapid.IntRange(0, 3).Draw(w.t, "there") == 0 {
				continue
			}
			name := fmt.Sprintf("%c%d", kind.String()[0], (i+rapid.SampledFrom([]int{0, 0, 0, 1, 10}).Draw(w.t, "called"))%12)
			if names[kind.String()+name] {
				continue
			}
			names[kind.String()+name] = true
			p := shape.Person{Account: acc.Account{Kind: kind, Name: name, ID: dom.Child(at + uint32(i)), POSIX: acc.NoPOSIX}, First: acc.NoPOSIX, DN: fmt.Sprintf("CN=%s %d", kind, i)}
			if kind == acc.User {
				p.Shut = rapid.SampledFrom([]string{"", "", "disabled", "expired"}).Draw(w.t, "shut")
				if rapid.IntRange(0, 3).Draw(w.t, "first") == 0 {
					p.Primary = dom.Child(2000 + uint32(rapid.IntRange(0, 3).Draw(w.t, "first group")))
				}
			} else {
				p.Purpose = rapid.SampledFrom([]acc.Purpose{acc.Unsaid, acc.Unsaid, acc.Role, acc.Mail}).Draw(w.t, "purpose")
			}
			if f.Former {
				p.Former = w.former()
			}
			f.People = append(f.People, p)
		}
	}
	slices.SortFunc(f.People, func(a, b shape.Person) int { return acc.Compare(a.ID, b.ID) })
	seen := map[[2]int32]bool{}
	for g := range f.People {
		for range rapid.IntRange(0, 3).Draw(w.t, "members") {
			pair := [2]int32{int32(g), int32(rapid.IntRange(0, len(f.People)-1).Draw(w.t, "member"))}
			if f.People[g].Kind == acc.Group && pair[0] != pair[1] && !seen[pair] {
				seen[pair] = true
				f.Members = append(f.Members, pair)
			}
		}
	}
	return f
}

// former draws identifiers somebody had elsewhere. Entries name them, for they are
// others' here.
func (w *world) former() acc.Former {
	if rapid.IntRange(0, 2).Draw(w.t, "was elsewhere") > 0 {
		return ""
	}
	return acc.NewFormer([]plan.ID{dom.Child(1000 + uint32(rapid.IntRange(0, 3).Draw(w.t, "former"))), dom.Child(2000 + uint32(rapid.IntRange(0, 3).Draw(w.t, "former group")))})
}

// TestPeopleOfADirectory: whatever a directory has, taking it in says who gains
// and loses, leaves what is there as it is in the directory, is nothing the second
// time, and is taken back whole.
func TestPeopleOfADirectory(t *testing.T) {
	kept, renamed, gone, stayed, nested, former, same, other := 0, 0, 0, 0, 0, 0, 0, 0
	rapid.Check(t, func(rt *rapid.T) {
		w := newWorld(t, rt)
		sh, _ := shape.Named("domain")
		if rapid.Bool().Draw(rt, "former ones count") {
			w.keep(func(d *plan.Planner) (*plan.Plan, error) {
				return servers.SetTraits(d, "box", "former-ids", "true", true)
			})
		}
		w.keep(func(d *plan.Planner) (*plan.Plan, error) {
			return d.AddDirectory(plan.Directory{Name: "house", Link: json.RawMessage("{}"), Shape: sh})
		})
		var last *shape.People
		for range 3 {
			f := w.inDirectory()
			if last != nil && rapid.Bool().Draw(rt, "former ones alone") { // are told of otherwise
				f.People, f.Members, f.Former = slices.Clone(last.People), last.Members, true
				for i := range f.People {
					f.People[i].Former = w.former()
				}
			}
			if len(f.People) == 0 {
				continue
			}
			last = f
			var c *intake.Taken
			take := func(d *plan.Planner) (p *plan.Plan, err error) {
				p, c, err = intake.TakePeople(d, f, intake.PeopleFrom{Directory: "house", Whole: true, Types: true})
				return p, err
			}
			state, before := w.state(), w.access()
			p, err := w.work(take)
			require.NoError(rt, err)
			renamed, gone, stayed = renamed+c.Renamed, gone+c.Went, stayed+c.Stayed
			if !p.Changes() {
				continue
			}
			id, err := w.e.Change(ctx, p.Meta("test"), p.Keep)
			require.NoError(rt, err)
			kept++
			if c.Went == 0 && c.Came == 0 && c.Renamed == 0 { // who is there on both sides, under one name
				require.Equal(rt, w.shifts(before, w.access()), shifts(p))
				if len(shifts(p)) > 0 && len(p.Work.Formers()) > 0 {
					former++
				}
			}
			require.NoError(rt, w.e.View(ctx, func(tx *estate.Tx) error {
				dir := tx.Directory()
				for i := range f.People {
					a, ok := tx.Account(f.People[i].ID)
					require.True(rt, ok, "%+v %v %v", f.People[i], tx.Accounts(0), tx.Err())
					at := tx.MetadataOf(a.ID)
					require.Equal(rt, "house", at.Directory)
					require.Equal(rt, f.People[i].Shut != "", at.Shut, a.Name)
				}
				for _, m := range f.Members {
					require.True(rt, dir.IsMember(f.People[m[0]].ID, f.People[m[1]].ID))
					if f.People[m[1]].Kind == acc.Group {
						nested++
					}
				}
				return tx.Err()
			}))
			again, err := w.work(take)
			require.NoError(rt, err)
			require.False(rt, again.Changes(), "the second time it is nothing: %v", again.Edits)
			for _, f := range []*shape.People{f, w.inDirectory()} { // a few of them by themselves
				some := intake.PeopleFrom{Directory: "house", Types: true}
				f.People = f.People[:len(f.People):len(f.People)]
				var nothing bool
				_, err := w.work(func(d *plan.Planner) (p *plan.Plan, err error) {
					p, nothing, err = intake.NothingOf(d, f, some)
					return p, err
				})
				require.NoError(rt, err)
				p, err := w.work(func(d *plan.Planner) (p *plan.Plan, err error) {
					p, _, err = intake.TakePeople(d, f, some)
					return p, err
				})
				require.NoError(rt, err)
				require.False(rt, nothing && p.Changes(), "%v", p.Edits)
				if nothing {
					same++
				} else if p.Changes() {
					other++
				}
			}
			if rapid.Bool().Draw(rt, "taken back") {
				back, err := w.work(func(d *plan.Planner) (*plan.Plan, error) { return undo.Undo(d, id, false) })
				require.NoError(rt, err)
				_, err = w.e.Change(ctx, back.Meta("test"), back.Keep)
				require.NoError(rt, err)
				require.Equal(rt, state, w.state())
			}
		}
	})
	for what, n := range map[string]int{"kept": kept, "renamed": renamed, "gone": gone, "stayed": stayed, "nested": nested, "former": former, "same": same, "other": other} {
		proptest.Reached(t, n, 5, what)
	}
}
