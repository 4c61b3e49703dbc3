package plan_test

import (
	"fmt"
	"maps"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	acc "tarnwold/core/account"
	"tarnwold/core/right"
	"tarnwold/core/rule"
	"tarnwold/internal/ask"
	"tarnwold/internal/ask/census"
	"tarnwold/internal/ask/explain"
	"tarnwold/internal/ask/show"
	"tarnwold/internal/ask/uses"
	"tarnwold/internal/estate"
	"tarnwold/internal/plan"
	"tarnwold/internal/plan/entry"
	"tarnwold/internal/plan/review"
	"tarnwold/internal/plan/undo"
	"tarnwold/internal/proptest"
)

// one is the answer for one user, place and route, decided by itself.
type one struct {
	user, where, route, kind, level string
	granted                         right.Set
	names                           []string // the address by the route, part by part
}

// onebyone decides every user on every place by every route.
func onebyone(t require.TestingT, tx *estate.Tx) (out []one) {
	k := ask.New(tx)
	for _, top := range tx.TopItems() {
		for _, id := range tx.Subtree(top, 10_000) {
			p := tx.Place(id)
			for _, u := range tx.Accounts(acc.User) {
				put := func(x *explain.Explained) {
					var n uint32
					_, err := fmt.Sscanf(x.Granted, "0x%x", &n)
					require.NoError(t, err)
					names := strings.Split(strings.TrimPrefix(x.Where, "//"), "/")
					if x.Route == "local" {
						server, path, _ := strings.Cut(x.Where, ":")
						names = append([]string{server}, strings.Split(strings.Trim(path, "/"), "/")...)
					}
					out = append(out, one{u.Name, x.Where, x.Route, x.Kind, x.Level, right.Set(n), names})
				}
				for _, sh := range k.Through(p) {
					put(explain.Answer(k, u, p, &sh, true))
				}
				put(explain.Answer(k, u, p, nil, true))
			}
		}
	}
	return out
}

// above tells whether a line stands at or above an address.
func above(line, names []string) bool {
	return len(line) <= len(names) && slices.Equal(line, names[:len(line)])
}

// worlds draws an estate that several plans were kept on.
func worlds(t *testing.T, rt *rapid.T) *world {
	return worked(newWorld(t, rt), rt)
}

// worked keeps several plans on an estate.
func worked(w *world, rt *rapid.T) *world {
	for range rapid.IntRange(0, 5).Draw(rt, "plans") {
		_, fn := w.anyPlan()
		w.keep(fn)
	}
	return w
}

// TestAnswersInEveryDirection: who, reach, files, compare and grid say what
// deciding one by one says.
func TestAnswersInEveryDirection(t *testing.T) {
	met := map[string]int{}
	rapid.Check(t, func(rt *rapid.T) {
		w := worlds(t, rt)
		require.NoError(rt, w.e.View(ctx, func(tx *estate.Tx) error {
			all := onebyone(rt, tx)
			k := ask.New(tx)
			byPlace := map[string][]one{}
			byUser := map[string][]one{}
			for _, o := range all {
				if o.route == "local" {
					byPlace[o.where] = nil
				}
				byUser[o.user] = append(byUser[o.user], o)
			}
			for _, o := range all { // places by their own address
				for at := range byPlace {
					_, path, _ := strings.Cut(at, ":")
					if p, err := tx.FindText(o.where); err == nil && p.Path == path {
						byPlace[at] = append(byPlace[at], o)
					}
				}
			}
			for at, want := range byPlace {
				w.who1(rt, k, at, want, all, met)
				w.grid1(rt, k, at, want)
			}
			for user, want := range byUser {
				w.reach1(rt, k, user, want, met)
				w.files1(rt, k, user, want)
			}
			if len(w.users) > 1 {
				w.compare1(rt, k, w.users[0], w.users[1], byUser, met)
				w.compare1(rt, k, w.users[2], w.users[3], byUser, met)
			}
			return tx.Err()
		}))
	})
	t.Log(met)
	for _, what := range []string{"open to some", "open to nobody", "open to everyone", "open to one", "by name only", "nothing below something", "something below nothing", "alike again", "by owner", "by entry", "more below"} {
		proptest.Reached(t, met[what], 1, what)
	}
}

func (w *world) who1(t *rapid.T, k *ask.Asker, at string, want, all []one, met map[string]int) {
	h, err := census.Who(k, at, "", false)
	require.NoError(t, err)
	got := map[string]string{}
	for _, r := range h.Routes {
		met["open to "+r.Open]++
		users := 0
		for _, l := range r.Levels {
			n := 0
			for _, b := range l.By {
				met["by "+b.By]++
				for _, u := range b.Users {
					require.Empty(t, got[r.Route+"|"+u], "everybody is told of once")
					got[r.Route+"|"+u] = l.Level
					n++
				}
			}
			require.Equal(t, l.Users, n)
			users += n
		}
		require.Equal(t, r.Users, users)
	}
	should := map[string]string{}
	for _, o := range want {
		if !w.nothing(o.granted) {
			should[o.route+"|"+o.user] = o.level
		}
	}
	require.Equal(t, should, got, at)
	listed, err := census.Who(k, at, "", true)
	require.NoError(t, err)
	for i, r := range h.Routes { // what is below, and open to others
		more := map[string]bool{}
		here := map[string]bool{}
		var names []string
		for _, o := range want {
			if o.route == r.Route {
				names = o.names
				here[o.user] = !w.nothing(o.granted)
			}
		}
		for _, o := range all {
			if o.route == r.Route && len(o.names) > len(names) && above(names, o.names) && !w.nothing(o.granted) && !here[o.user] {
				more[o.user] = true
			}
		}
		if len(more) == 0 || h.Kind != "folder" {
			require.Nil(t, r.Below, at)
			continue
		}
		met["more below"]++
		require.NotNil(t, r.Below, "%s %s: %v", at, r.Route, more)
		require.ElementsMatch(t, slices.Collect(maps.Keys(more)), r.Below.Names, at)
		require.Equal(t, len(more), r.Below.Users)
		require.Empty(t, r.Below.List)
		told := map[string]bool{}
		places := int64(0)
		for _, b := range listed.Routes[i].Below.List {
			places += b.Items
			for _, u := range b.Who {
				told[u] = true
			}
		}
		require.Equal(t, more, told)
		require.Equal(t, places, r.Below.Places)
		// A place counts where somebody may that could not in the folder it is in.
		at := map[string]map[string]bool{}
		for _, o := range all {
			if o.route == r.Route && len(o.names) > len(names) && above(names, o.names) && !w.nothing(o.granted) && !here[o.user] {
				key := strings.Join(o.names, "\x00")
				if at[key] == nil {
					at[key] = map[string]bool{}
				}
				at[key][o.user] = true
			}
		}
		var opens int64
		for key, who := range at {
			up := key[:max(strings.LastIndexByte(key, 0), 0)]
			for u := range who {
				if !at[up][u] {
					opens++
					break
				}
			}
		}
		require.Equal(t, opens, r.Below.Places)
	}
}

func (w *world) reach1(t *rapid.T, k *ask.Asker, user string, want []one, met map[string]int) {
	r, err := census.ReachOf(k, user, "", "", 0)
	require.NoError(t, err)
	byRoute := map[string]*census.Reach{}
	items := map[string]int64{}
	for i := range r.Routes {
		byRoute[r.Routes[i].Route] = &r.Routes[i]
	}
	granted := map[string]right.Set{}
	for _, o := range want {
		granted[o.route+"|"+strings.Join(o.names, "/")] = o.granted
	}
	for _, o := range want {
		way := byRoute[o.route]
		require.NotNil(t, way, o.route)
		if !w.nothing(o.granted) {
			items[o.route]++
		}
		var near *census.Reached
		for i := range way.Lines {
			if l := &way.Lines[i]; above(l.Parts, o.names) && (near == nil || len(l.Parts) > len(near.Parts)) {
				near = l
			}
		}
		require.NotNil(t, near, o.where)
		if len(near.Parts) < len(o.names) && o.kind == "file" {
			var n uint32
			_, _ = fmt.Sscanf(near.Granted, "0x%x", &n)
			same := (right.Set(n)^o.granted)&^right.DeleteChild == 0
			if w.posix { // running it is a file's own affair
				same = (right.Set(n)^o.granted)&right.Access&^(right.DeleteChild|right.Delete|right.Execute) == 0
			}
			require.True(t, same || near.Level == o.level, "%s: %s, and by its folder %s", o.where, o.level, near.Level)
		} else {
			require.Equal(t, o.level, near.Level, o.where)
		}
		if len(near.Parts) != len(o.names) {
			continue
		}
		begin := 2 // //server/share
		if o.route == "local" {
			begin = 2 // server:/srv
		}
		hidden := false
		for n := begin; n < len(o.names); n++ {
			hidden = hidden || granted[o.route+"|"+strings.Join(o.names[:n], "/")]&right.ReadData == 0
		}
		require.Equal(t, hidden && !w.nothing(o.granted), near.ByNameOnly, o.where)
		up := granted[o.route+"|"+strings.Join(o.names[:len(o.names)-1], "/")]
		switch {
		case near.ByNameOnly:
			met["by name only"]++
			fallthrough
		case w.nothing(up) && !w.nothing(o.granted):
			met["something below nothing"]++
		case !w.nothing(up) && w.nothing(o.granted):
			met["nothing below something"]++
		}
	}
	for route, way := range byRoute {
		require.Equal(t, items[route], way.Items, route)
	}
}

func (w *world) files1(t *rapid.T, k *ask.Asker, user string, want []one) {
	var got, should []string
	_, err := census.Files(k, user, "", "", func(f census.File) error {
		got = append(got, f.Route+" "+f.Where+" "+f.Level)
		return nil
	})
	require.NoError(t, err)
	for _, o := range want {
		if o.kind == "file" && o.granted&right.ReadData != 0 {
			should = append(should, o.route+" "+o.where+" "+o.level)
		}
	}
	slices.Sort(got)
	slices.Sort(should)
	require.Equal(t, should, got)
	for _, sizes := range []bool{false, true} {
		_, counts, err := census.FileCounts(k, user, "", "", sizes)
		require.NoError(t, err)
		var n int64
		for _, c := range counts {
			n += c.Files
		}
		require.Equal(t, int64(len(should)), n)
	}
}

func (w *world) compare1(t *rapid.T, k *ask.Asker, a, b string, byUser map[string][]one, met map[string]int) {
	c, err := census.Compare(k, a, b, "", 0)
	require.NoError(t, err)
	var differ, alike int64
	for i, x := range byUser[a] {
		y := byUser[b][i]
		require.Equal(t, x.where, y.where)
		var near *census.Compared
		for j := range c.Lines {
			if l := &c.Lines[j]; l.Route == x.route && above(l.Parts, x.names) && (near == nil || len(l.Parts) > len(near.Parts)) {
				near = l
			}
		}
		if x.level == y.level {
			alike++
			if near != nil {
				require.Equal(t, near.First, near.Second, x.where)
				met["alike again"]++
			}
			continue
		}
		differ++
		require.NotNil(t, near, x.where)
		require.NotEqual(t, near.First, near.Second)
		if len(near.Parts) == len(x.names) {
			require.Equal(t, x.level, near.First)
			require.Equal(t, y.level, near.Second)
			require.NotEmpty(t, near.Has)
			require.True(t, near.Why.Granted && !near.Not.Granted)
		} else if x.kind == "folder" {
			require.Equal(t, []string{x.level, y.level}, []string{near.First, near.Second}, x.where)
		}
	}
	require.Equal(t, []int64{differ, alike}, []int64{c.Differ, c.Alike})
}

func (w *world) grid1(t *rapid.T, k *ask.Asker, at string, want []one) {
	var head *census.Gridded
	rows := 0
	err := census.Grid(k, census.Gridding{Where: at, For: []string{w.users[0], w.users[1], "g1"}}, func(g *census.Gridded) error { head = g; return nil }, func(r *census.GridRow) error {
		if rows++; rows > 1 {
			return nil
		}
		require.Equal(t, "g1", head.Accounts[2].Name)
		var others []string
		in := map[string]bool{}
		tok := map[string]bool{}
		g, err := show.Group(k, "g1")
		require.NoError(t, err)
		for _, m := range g.All {
			tok[m.Name] = true
		}
		for _, o := range want {
			if o.route != "local" {
				continue
			}
			for i, u := range w.users[:2] {
				if o.user == u {
					require.Equal(t, o.level, r.Cells[i].Level, at)
					in[u] = true
				}
			}
			if o.user != w.users[0] && o.user != w.users[1] && !w.nothing(o.granted) {
				others = append(others, o.user)
			}
		}
		require.Len(t, in, 2)
		for _, u := range r.Else {
			require.Contains(t, others, u)
			require.False(t, tok[u] && head.Accounts[2].Kind == "group" && w.plainGroups(k), "who is in the group is covered: %s", u)
		}
		return nil
	})
	require.NoError(t, err)
	require.Positive(t, rows)
}

// plainGroups tells whether groups are followed to any depth, so that the
// members a group shows are those a server counts.
func (w *world) plainGroups(k *ask.Asker) bool {
	s, err := show.ServerNamed(k, "box")
	if err != nil {
		return false
	}
	for _, t := range s.Traits {
		if t.Name == "group-layers" {
			return t.Value == "any"
		}
	}
	return false
}

// TestWhoCanIsWhoCouldTry: who can do an act, all at once, is who could by
// trying each.
func TestWhoCanIsWhoCouldTry(t *testing.T) {
	met := map[bool]int{}
	rapid.Check(t, func(rt *rapid.T) {
		w := worlds(t, rt)
		require.NoError(rt, w.e.View(ctx, func(tx *estate.Tx) error {
			k := ask.New(tx)
			for _, top := range tx.TopItems() {
				for _, id := range tx.Subtree(top, 10_000) {
					p := tx.Place(id)
					act := rapid.SampledFrom(ask.ActNames()).Draw(rt, "act")
					if act == "list" || act == "read" { // a level of the name is meant then
						continue
					}
					h, err := census.Who(k, p.String(), act, false)
					if err != nil { // not of this kind, or it needs a second place
						continue
					}
					for _, r := range h.Routes {
						can := map[string]bool{}
						for _, l := range r.Levels {
							for _, b := range l.By {
								for _, u := range b.Users {
									can[u] = true
								}
							}
						}
						at := p
						for _, sh := range k.Through(p) {
							if sh.Address() == r.Route {
								at.Share = &sh
							}
						}
						for _, u := range tx.Accounts(acc.User) {
							where, to := at.Via(), ""
							switch act {
							case "create", "make-folder":
								where += "/something new"
							case "rename", "rename-by-attributes":
								to = "another name"
							}
							x, err := explain.Try(k, u.Name, act, where, to, true)
							if err != nil { // the top of a route is not renamed
								require.False(rt, can[u.Name], "%s %s", act, where)
								continue
							}
							require.Equal(rt, x.Allowed, can[u.Name], "%s %s %s", u.Name, act, where)
							met[x.Allowed]++
						}
					}
				}
			}
			return tx.Err()
		}))
	})
	proptest.Reached(t, met[true], 200, "acts that can be done")
	proptest.Reached(t, met[false], 200, "acts that can't")
}

// TestMendsGiveWhatTheySay: each mend, kept, gives the level, and opens what it
// said, to whom it said.
func TestMendsGiveWhatTheySay(t *testing.T) {
	met := map[string]int{}
	rapid.Check(t, func(rt *rapid.T) {
		w := worlds(t, rt)
		paths, _ := w.all()
		if len(paths) == 0 {
			return
		}
		who, where := rapid.SampledFrom(w.users).Draw(rt, "who"), rapid.SampledFrom(paths).Draw(rt, "where")
		switch rapid.IntRange(0, 4).Draw(rt, "refused") { // so that there is something to mend of each kind
		case 0:
			at := plan.Targets{Where: []string{where}, Plain: true}
			w.keep(func(d *plan.Planner) (*plan.Plan, error) {
				return entry.Give(d, entry.Entry{Kind: rule.Deny, Who: who, What: "read"}, at)
			})
			w.keep(func(d *plan.Planner) (*plan.Plan, error) {
				return entry.Give(d, entry.Entry{Who: "everyone@", What: "full"}, at)
			})
		case 1:
			w.keep(func(d *plan.Planner) (*plan.Plan, error) {
				return entry.Give(d, entry.Entry{Kind: rule.Deny, Who: "g1", What: "full", Share: true, Scope: rule.Here}, plan.Targets{Where: []string{"//box/all"}})
			})
		case 2:
			share := plan.Targets{Where: []string{"//box/all"}}
			kept := w.keep(func(d *plan.Planner) (*plan.Plan, error) {
				return entry.Replace(d, entry.Entry{Who: "everyone@", What: "read", Share: true, Scope: rule.Here}, share)
			})
			if kept == 0 { // the share is gone
				break
			}
			w.keep(func(d *plan.Planner) (*plan.Plan, error) {
				return entry.Give(d, entry.Entry{Who: "everyone@", What: "full"}, plan.Targets{Where: []string{where}, Plain: true})
			})
			where = "//box/all" + strings.TrimPrefix(where, "box:/srv")
		}
		if rapid.IntRange(0, 2).Draw(rt, "a group has it") == 0 {
			w.keep(func(d *plan.Planner) (*plan.Plan, error) {
				return entry.Give(d, entry.Entry{Who: "g3", What: "full"}, plan.Targets{Where: []string{paths[0]}, Plain: true})
			})
		}
		want := rapid.SampledFrom([]string{"read", "edit", "full"}).Draw(rt, "want")
		before := w.access()
		mendings, err := review.Mends(ctx, w.e, "", who, where, want, nil)
		require.NoError(rt, err)
		require.NotEmpty(rt, mendings)
		require.Equal(rt, before, w.access(), "looking leaves no trace")
		for _, m := range mendings {
			if m.Held {
				met["held"]++
				require.Empty(rt, m.Mends)
				continue
			}
			if len(m.Mends) == 0 {
				met["none"]++
			}
			for i, x := range m.Mends {
				if i > 2 { // the rest is made the same way
					break
				}
				met[x.Steps[0].Do]++
				if len(x.Steps) > 1 {
					met["two steps"]++
				}
				require.NoError(rt, w.e.Private(ctx, func(p *estate.Estate) error {
					in := &world{t: rt, e: p, users: w.users, who: w.who}
					for _, s := range x.Steps {
						require.NotZero(rt, in.keep(func(d *plan.Planner) (*plan.Plan, error) { return review.Do(d, s) }), s.Said())
					}
					var level right.Level
					require.NoError(rt, p.View(ctx, func(tx *estate.Tx) (err error) {
						k := ask.New(tx)
						if level, err = k.Level(want); err != nil {
							return err
						}
						yes, err := explain.Holds(k, who, m.Where, level)
						require.True(rt, yes, "%s gives %s %s on %s", x.Command, who, want, m.Where)
						return err
					}))
					gains := map[string]bool{}
					for s, said := range w.shifts(before, in.access()) {
						var b, a uint32
						f := strings.Fields(s)
						_, _ = fmt.Sscanf(f[len(f)-2]+" "+f[len(f)-1], "%x %x", &b, &a)
						if a&^b != 0 && !w.nothing(right.Set(a)) {
							for _, u := range w.users {
								if strings.Contains(said, u) && u != who {
									gains[u] = true
								}
							}
						}
					}
					for u := range gains {
						require.Contains(rt, x.People, u, "%s", x.Command)
					}
					return nil
				}))
			}
		}
	})
	t.Log(met)
	for _, what := range []string{"held", "join", "grant", "revoke", "share-grant", "share-revoke", "two steps"} {
		proptest.Reached(t, met[what], 0, what)
	}
}

// TestSupposedIsWhatComes: an answer under a change that is only supposed is
// the answer after it; as of an earlier change it is the answer of then; and a
// history tells just the changes that turned it.
func TestSupposedIsWhatComes(t *testing.T) {
	turned := 0
	rapid.Check(t, func(rt *rapid.T) {
		w := newWorld(t, rt)
		type moment struct {
			change int64
			access access
		}
		var past []moment
		head := func() (id int64) {
			require.NoError(rt, w.e.View(ctx, func(tx *estate.Tx) error { id = tx.Head(); return tx.Err() }))
			return id
		}
		past = append(past, moment{head(), w.access()})
		paths, _ := w.all()
		user, where := rapid.SampledFrom(w.users).Draw(rt, "user"), rapid.SampledFrom(paths).Draw(rt, "where")
		level := func(e *estate.Estate) map[string]string {
			out := map[string]string{}
			require.NoError(rt, e.View(ctx, func(tx *estate.Tx) error {
				list, err := explain.Explain(ask.New(tx), user, where, true)
				if err != nil {
					out[""] = explain.NoPlace
					return nil
				}
				for _, x := range list {
					out[x.Route] = x.Level
				}
				return tx.Err()
			}))
			return out
		}
		var turns []string
		was := level(w.e)
		for range 5 {
			_, fn := w.anyPlan()
			p, err := w.work(fn)
			if err != nil || !p.Changes() {
				continue
			}
			var supposed access
			require.NoError(rt, w.e.Private(ctx, func(e *estate.Estate) error {
				in := &world{t: rt, e: e}
				_, err := e.Change(ctx, p.Meta("supposed"), p.Keep)
				supposed = in.access()
				return err
			}))
			require.Equal(rt, past[len(past)-1].access, w.access(), "nothing is kept")
			id, err := w.e.Change(ctx, p.Meta("test"), p.Keep)
			require.NoError(rt, err)
			now := w.access()
			require.Equal(rt, now, supposed)
			past = append(past, moment{id, now})
			is := level(w.e)
			for route, l := range is {
				if was[route] != l && was[""] == "" && l != explain.NoPlace && was[route] != "" {
					turns = append(turns, fmt.Sprintf("%d %s %s %s", id, route, was[route], l))
				}
			}
			was = is
		}
		at := past[rapid.IntRange(0, len(past)-1).Draw(rt, "moment")]
		require.NoError(rt, w.e.Private(ctx, func(e *estate.Estate) error {
			_, err := e.Change(ctx, estate.Meta{Head: estate.Any, Bulk: rapid.Bool().Draw(rt, "bulk")}, func(tx *estate.Tx) (string, error) {
				tx.Rewind(at.change)
				return "rewound", nil
			})
			require.NoError(rt, err)
			require.Equal(rt, at.access, (&world{t: rt, e: e}).access(), "as of change %d", at.change)
			return nil
		}))
		if was[""] == "" {
			var h *explain.History
			require.NoError(rt, w.e.Private(ctx, func(e *estate.Estate) error {
				_, err := e.Change(ctx, estate.Meta{Head: estate.Any}, func(tx *estate.Tx) (_ string, err error) {
					h, err = explain.HistoryOf(tx, user, where)
					return "", err
				})
				require.NoError(rt, err)
				var got []string
				for _, x := range h.Turns {
					if x.Was != explain.NoPlace && x.Was != explain.NoRoute && x.Was != explain.NoAccount && x.Is != explain.NoRoute {
						got = append(got, fmt.Sprintf("%d %s %s %s", x.Change, x.Route, x.Was, x.Is))
					}
				}
				slices.Sort(got)
				slices.Sort(turns)
				if at := slices.IndexFunc(h.Turns, func(x explain.Turned) bool { return x.Was == explain.NoPlace && x.Change != h.Since }); at < 0 {
					require.Equal(rt, turns, got)
					turned += len(turns)
				}
				return nil
			}))
		}
	})
	proptest.Reached(t, turned, 3, "histories with changes in them")
}

// TestStrippedAndSwappedIsNowhere: what was stripped is named nowhere, what was
// swapped neither, and one made like another is in the same groups and entries.
func TestStrippedAndSwappedIsNowhere(t *testing.T) {
	met := map[string]int{}
	rapid.Check(t, func(rt *rapid.T) {
		w := worlds(t, rt)
		var there []string // a mend may have taken a group out
		require.NoError(rt, w.e.View(ctx, func(tx *estate.Tx) error {
			for _, name := range w.who[:8] {
				if _, ok := tx.FindNamed(name, 0); ok {
					there = append(there, name)
				}
			}
			return tx.Err()
		}))
		who := rapid.SampledFrom(there).Draw(rt, "who")
		uses := func(name string) (out []uses.UsedAs) {
			require.NoError(rt, w.e.View(ctx, func(tx *estate.Tx) (err error) {
				out, err = uses.UsesOf(ask.New(tx), name, false)
				return err
			}))
			return out
		}
		if paths, _ := w.all(); len(paths) > 0 && rapid.Bool().Draw(rt, "stale") { // what a creator got, and another owns now
			w.keep(func(d *plan.Planner) (*plan.Plan, error) {
				return entry.Give(d, entry.Entry{What: "edit", Who: "creator@"}, plan.Targets{Where: []string{paths[0]}, Plain: true})
			})
			at := plan.Targets{Where: []string{rapid.SampledFrom(paths).Draw(rt, "given away")}, Plain: true}
			w.keep(func(d *plan.Planner) (*plan.Plan, error) {
				return entry.Own(d, rapid.SampledFrom(w.users).Draw(rt, "to own"), false, at)
			})
		}
		if paths, _ := w.all(); len(paths) > 0 && rapid.Bool().Draw(rt, "watched") {
			at := plan.Targets{Where: []string{rapid.SampledFrom(paths).Draw(rt, "watched place")}, Plain: true}
			w.keep(func(d *plan.Planner) (*plan.Plan, error) {
				return entry.Watch(d, entry.Entry{Who: who, What: "delete", On: rule.Flags(0x40)}, at)
			})
		}
		before := uses(who)
		for _, u := range before {
			met[u.As]++
		}
		if rapid.Bool().Draw(rt, "swap") {
			to := rapid.SampledFrom(there).Draw(rt, "to")
			if _, err := w.work(func(d *plan.Planner) (*plan.Plan, error) { return entry.Swap(d, who, to, "") }); err != nil {
				return
			}
			w.keep(func(d *plan.Planner) (*plan.Plan, error) { return entry.Swap(d, who, to, "") })
			for _, u := range uses(who) {
				require.Equal(rt, "holder", u.As, "%s swapped for %s: %+v", who, to, u)
			}
			met["swapped"]++
		} else {
			owner := rapid.SampledFrom(w.users).Draw(rt, "owner")
			if owner == who {
				return
			}
			_, err := w.work(func(d *plan.Planner) (*plan.Plan, error) { return entry.Strip(d, []string{who}, "", owner) })
			require.NoError(rt, err)
			w.keep(func(d *plan.Planner) (*plan.Plan, error) { return entry.Strip(d, []string{who}, "", owner) })
			require.Empty(rt, uses(who), "%s", who)
			met["stripped"]++
		}
		if before := w.state(); len(before) > 0 {
			kept := w.keep(func(d *plan.Planner) (*plan.Plan, error) {
				return entry.Like(d, w.users[0], w.users[1], entry.LikeOptions{Homes: true})
			})
			if kept != 0 {
				met["like"]++
				p, err := w.work(func(d *plan.Planner) (*plan.Plan, error) {
					return entry.Like(d, w.users[0], w.users[1], entry.LikeOptions{Homes: true})
				})
				require.NoError(rt, err)
				require.False(rt, p.Changes(), "who is like another stays so: %+v", p.Edits)
				require.NoError(rt, w.e.View(ctx, func(tx *estate.Tx) error {
					a, err := tx.User(w.users[0])
					require.NoError(rt, err)
					b, err := tx.User(w.users[1])
					require.Equal(rt, a.Primary, b.Primary)
					require.ElementsMatch(rt, tx.GroupsOf(a.ID), tx.GroupsOf(b.ID))
					return err
				}))
				w.keep(func(d *plan.Planner) (*plan.Plan, error) { return undo.Undo(d, kept, false) })
				require.Equal(rt, before, w.state())
			}
		}
	})
	t.Log(met)
	for _, what := range []string{"entry", "owner", "member", "holder", "stale-entry", "share-entry", "audit-entry", "swapped", "stripped", "like"} {
		proptest.Reached(t, met[what], 1, what)
	}
}
