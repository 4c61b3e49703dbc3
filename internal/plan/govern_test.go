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
	"tarnwold/core/place"
	"tarnwold/core/posix"
	"tarnwold/core/right"
	"tarnwold/core/rule"
	"tarnwold/core/verdict"
	"tarnwold/internal/ask"
	"tarnwold/internal/ask/expect"
	"tarnwold/internal/ask/explain"
	"tarnwold/internal/ask/findings"
	"tarnwold/internal/estate"
	"tarnwold/internal/format/policy"
	"tarnwold/internal/plan"
	"tarnwold/internal/plan/entry"
	"tarnwold/internal/plan/people"
	"tarnwold/internal/plan/policies"
	"tarnwold/internal/plan/request"
	"tarnwold/internal/plan/review"
	"tarnwold/internal/plan/servers"
	"tarnwold/internal/proptest"
)

// policy draws a policy for some places of box:/srv.
func (w *world) policy(paths []string) *policy.Policy {
	t := w.t
	var b strings.Builder
	b.WriteString("policy season\nbecause it is drawn\n")
	used := map[string]bool{}
	for range rapid.IntRange(1, 3).Draw(t, "blocks") {
		rest := strings.TrimPrefix(strings.TrimPrefix(rapid.SampledFrom(paths).Draw(t, "on"), "box:/srv"), "/")
		if rest == "" {
			rest = "."
		}
		if used[rest] {
			continue
		}
		used[rest] = true
		fmt.Fprintf(&b, "at %s\n", policy.Quote(rest))
		if s := rapid.SampledFrom([]string{"", "", "sealed keep", "sealed clear"}).Draw(t, "seal"); s != "" {
			fmt.Fprintln(&b, " ", s)
		}
		if rapid.IntRange(0, 3).Draw(t, "owned") == 0 {
			fmt.Fprintln(&b, "  owner", rapid.SampledFrom(w.users).Draw(t, "owner"))
		}
		said := map[string]bool{}
		for range rapid.IntRange(1, 3).Draw(t, "wanted") {
			line := fmt.Sprintf("%s %s %s", rapid.SampledFrom([]string{"allow", "allow", "deny"}).Draw(t, "kind"), rapid.SampledFrom(w.who[:8]).Draw(t, "who"),
				rapid.SampledFrom([]string{"read", "edit", "full"}).Draw(t, "level"))
			if said[line] {
				continue
			}
			said[line] = true
			if rapid.IntRange(0, 3).Draw(t, "only") == 0 {
				line = "only " + line
			}
			if rapid.IntRange(0, 3).Draw(t, "dated") == 0 {
				line += " until 2099-06-01"
			}
			fmt.Fprintln(&b, " ", line)
		}
	}
	p, err := policy.Read(strings.NewReader(b.String()), "p")
	require.NoError(t, err, b.String())
	return p
}

func (w *world) drift() (out *policies.PolicyDrift) {
	require.NoError(w.t, w.e.View(ctx, func(tx *estate.Tx) error {
		l, err := policies.Policy(tx, "season")
		require.NoError(w.t, err)
		out, err = policies.DriftOf(plan.New(tx, ""), l, expect.NewExpecting(ask.New(tx)).Expect)
		return err
	}))
	return out
}

// unmet tells whether anything a policy wants is not so, by looking at each
// entry, and not by laying it again.
func (w *world) unmet(pol *policy.Policy) (off bool) {
	require.NoError(w.t, w.e.View(ctx, func(tx *estate.Tx) error {
		laid, err := policies.Policy(tx, pol.Name)
		require.NoError(w.t, err)
		for i := range laid.Places {
			at, ok := policies.LaidOn(plan.New(tx, ""), &laid.Places[i])
			if !ok {
				off = true
				continue
			}
			b := pol.Blocks[slices.IndexFunc(pol.Blocks, func(b policy.Block) bool { return b.Line == laid.Places[i].Line })]
			if r, ok := tx.Of(at.Strand).(*posix.Rules); ok {
				off = off || w.unmetPosix(tx, b, r)
				continue
			}
			now := tx.Of(at.Strand).Listed()
			days := tx.Dated(estate.Bearer{Item: at.Item}, now)
			off = off || b.Seal != "" && !now.Sealed()
			if b.Owner != "" {
				o, _ := tx.Who(b.Owner)
				off = off || now.Owner != o
			}
			mine := map[plan.ID][]rule.Entry{}
			for _, e := range b.Entries {
				who, _ := tx.Who(e.Who)
				what, _ := plan.Level(tx, e.What)
				es, err := rule.Line{Kind: e.Kind, Who: who, What: what, Scope: rule.Tree}.Entries(at.Folder)
				require.NoError(w.t, err)
				mine[who] = append(mine[who], es...)
			}
			for _, e := range b.Entries {
				who, _ := tx.Who(e.Who)
				for _, x := range mine[who] {
					has := slices.ContainsFunc(now.Rules.Own(), func(o rule.Entry) bool {
						// An entry that gives the same and more stands for it.
						return o.Who == x.Who && o.Kind == x.Kind && o.Flags&^rule.Inherited == x.Flags && o.Rights.Map().Has(x.Rights.Map())
					})
					off = off || !has
				}
				if e.Only {
					for _, o := range now.Rules.Own() {
						off = off || o.Who == who && !slices.ContainsFunc(mine[who], func(x rule.Entry) bool { return x == o })
					}
				}
				_ = days
			}
		}
		return tx.Err()
	}))
	return off
}

// unmetPosix is unmet on an item of a POSIX tree: who is meant has the entry or
// the class that they have with at least what is wanted, and under only not more.
func (w *world) unmetPosix(tx *estate.Tx, b policy.Block, r *posix.Rules) (off bool) {
	if b.Seal != "" && r.Folder {
		off = r.Default != nil
	}
	if b.Owner != "" {
		o, _ := tx.Who(b.Owner)
		a, _ := tx.Account(o)
		off = off || a.Kind == acc.User && r.Owner != acc.UID(uint32(a.POSIX))
	}
	wants, only := map[string]posix.Perm{}, map[string]bool{}
	for _, e := range b.Entries {
		what, _ := plan.Level(tx, e.What)
		wants[e.Who] |= posix.Means(what).On(r)
		only[e.Who] = only[e.Who] || e.Only
	}
	for name, want := range wants {
		id, _ := tx.Who(name)
		who, tag := acc.Everyone, posix.Other
		if a, ok := tx.Account(id); ok && a.Kind == acc.User {
			if who, tag = acc.UID(uint32(a.POSIX)), posix.User; r.Owner == who {
				tag = posix.UserObj
			}
		} else if ok {
			who, tag = acc.GID(uint32(a.POSIX)), posix.Group
			if !slices.ContainsFunc(r.Access, func(e posix.Entry) bool { return e.Tag == posix.Group && e.Who == who }) && r.Group == who {
				tag = posix.GroupObj
			}
		}
		has := posix.Perm(0)
		for _, e := range r.Access {
			if e.Tag == tag && (e.Who.IsZero() || e.Who == who) {
				has = r.Access.Counts(e)
			}
		}
		off = off || has&want != want || only[name] && has != want
	}
	return off
}

// TestLaidAndLifted: right after it is laid nothing is otherwise than a policy
// wants; lifted, everything is as it was before, to the bit.
func TestLaidAndLifted(t *testing.T) {
	laid, again, off, within := 0, 0, 0, 0
	rapid.Check(t, func(rt *rapid.T) {
		w := worlds(t, rt)
		paths, _ := w.all()
		if len(paths) == 0 || !slices.Contains(paths, "box:/srv") {
			return
		}
		w.keep(func(d *plan.Planner) (*plan.Plan, error) { return policies.LiftPolicy(d, "season", nil) })
		before := w.state()
		pol := w.policy(paths)
		access := w.access()
		p, err := w.work(func(d *plan.Planner) (*plan.Plan, error) {
			p, _, err := policies.LayPolicy(d, pol, []string{"box:/srv"})
			return p, err
		})
		if err != nil {
			return
		}
		laid++
		_, err = w.e.Change(ctx, p.Meta("test"), p.Keep)
		require.NoError(rt, err)
		require.Equal(rt, w.shifts(access, w.access()), shifts(p), pol.Text)
		require.Empty(rt, w.drift().Lines, pol.Text)
		require.False(rt, w.unmet(pol), pol.Text)

		p, err = w.work(func(d *plan.Planner) (*plan.Plan, error) { p, _, err := policies.LayPolicy(d, pol, nil); return p, err })
		require.NoError(rt, err)
		require.False(rt, p.Changes(), "laid again it is laid already: %v", p.Edits)

		// Something else is done: what is otherwise then is told.
		if rapid.Bool().Draw(rt, "disturbed") {
			b := rapid.SampledFrom(pol.Blocks).Draw(rt, "where")
			at := plan.Targets{Where: []string{policy.Join("box:/srv", b.Where[0])}, Plain: true}
			kind := rapid.SampledFrom([]string{"take", "own", "unseal", "give", "any"}).Draw(rt, "by")
			switch kind {
			case "take":
				if len(b.Entries) > 0 {
					w.keep(func(d *plan.Planner) (*plan.Plan, error) {
						return entry.Take(d, entry.Taking{Who: b.Entries[0].Who}, at)
					})
				}
			case "own":
				w.keep(func(d *plan.Planner) (*plan.Plan, error) {
					return entry.Own(d, rapid.SampledFrom(w.users).Draw(rt, "to"), false, at)
				})
			case "unseal":
				w.keep(func(d *plan.Planner) (*plan.Plan, error) { return entry.Unseal(d, rapid.Bool().Draw(rt, "clear"), at) })
			case "give":
				w.keep(func(d *plan.Planner) (*plan.Plan, error) {
					return entry.Give(d, entry.Entry{Who: b.Entries[0].Who, What: "pass"}, at)
				})
			default:
				if kind, fn := w.anyPlan(); kind != "lay" && kind != "lift" && kind != "expire" && kind != "outfit" {
					w.keep(fn)
				}
			}
			laid := false
			require.NoError(rt, w.e.View(ctx, func(tx *estate.Tx) error { laid = tx.Record(estate.PolicyRecord, "season") != ""; return nil }))
			if !laid {
				return
			}
			if w.unmet(pol) {
				off++
				require.NotEmpty(rt, w.drift().Lines, "%s by %s", pol.Text, kind)
				for _, l := range w.drift().Lines {
					if l.Change != 0 {
						within++
					}
				}
			}
			return
		}
		if rapid.Bool().Draw(rt, "another version") {
			v2 := w.policy(paths)
			if w.keep(func(d *plan.Planner) (*plan.Plan, error) { p, _, err := policies.LayPolicy(d, v2, nil); return p, err }) != 0 {
				again++
				require.Empty(rt, w.drift().Lines, "%s\n%s", pol.Text, v2.Text)
				require.False(rt, w.unmet(v2), "%s\n%s", pol.Text, v2.Text)
				require.NotZero(rt, w.keep(func(d *plan.Planner) (*plan.Plan, error) { return policies.LiftPolicy(d, "season", nil) }), "%v", w.refused)
				if w.posix { // what is handed on below isn't told apart from what was there
					return
				}
				require.Equal(rt, own(before), own(w.state()), "%s\n%s", pol.Text, v2.Text)
				return
			}
		}
		require.NotZero(rt, w.keep(func(d *plan.Planner) (*plan.Plan, error) { return policies.LiftPolicy(d, "season", nil) }), "%v", w.refused)
		require.Equal(rt, before, w.state(), pol.Text)
	})
	t.Log(laid, again, off, within)
	proptest.Reached(t, laid, 40, "laid")
	proptest.Reached(t, again, 8, "another version")
	proptest.Reached(t, off, 4, "otherwise")
	proptest.Reached(t, within, 2, "with the change that made it so")
}

// own leaves out what is inherited of a state: below a policy that came in two
// steps, stale entries may have been mended.
func own(state []string) (out []string) {
	for _, s := range state {
		var kept []string
		for i, part := range strings.Split(s, "; ") {
			f := strings.Fields(part)
			inherited := false
			for _, x := range f {
				var flags uint32
				if n, _ := fmt.Sscanf(x, "%x", &flags); n == 1 && i > 0 && len(x) == 2 && flags&0x10 != 0 && len(f) > 3 {
					inherited = true
				}
			}
			if !inherited {
				kept = append(kept, part)
			}
		}
		kept[0] = strings.TrimSuffix(kept[0], " 404") // marked auto-inherited or not
		kept[0] = strings.TrimSuffix(kept[0], " 4")
		out = append(out, strings.Join(kept, "; "))
	}
	return out
}

// TestAcceptedIsWhatWasAsked: a request that is accepted gives its people what
// they asked for, and nobody more than was shown.
func TestAcceptedIsWhatWasAsked(t *testing.T) {
	met := map[string]int{}
	rapid.Check(t, func(rt *rapid.T) {
		w := worked(entryWorld(t, rt), rt)
		if rapid.IntRange(0, 3).Draw(rt, "any") == 0 {
			w = worlds(t, rt)
		}
		paths, _ := w.all()
		var under []string
		for _, p := range paths {
			if rest, ok := place.Cut(strings.TrimPrefix(p, "box:"), "/srv"); ok {
				under = append(under, strings.TrimSuffix("//box/all/"+rest, "/"))
			}
		}
		if len(under) == 0 {
			return
		}
		who := rapid.SampledFrom([][]string{{"u0"}, {"u1"}, {"u1", "u2"}, {"u0", "u3"}}).Draw(rt, "who")
		level := rapid.SampledFrom([]string{"read", "edit", "full"}).Draw(rt, "level")
		where := rapid.SampledFrom(under).Draw(rt, "where")
		until := estate.Day("")
		if rapid.Bool().Draw(rt, "until") {
			until = "2099-01-01"
		}
		var r *request.Request
		before := w.access()
		if w.keep(func(d *plan.Planner) (p *plan.Plan, err error) {
			p, r, err = request.Ask(d, who, level, where, "to see", until)
			return p, err
		}) == 0 {
			met["not asked"]++
			return
		}
		require.Equal(rt, before, w.access(), "asking opens nothing")
		again, err := w.work(func(d *plan.Planner) (p *plan.Plan, err error) {
			p, _, err = request.Ask(d, who, level, where, "to see", until)
			return p, err
		})
		require.NoError(rt, err)
		require.False(rt, again.Changes(), "asked again it is the same request")
		got, err := request.LookAt(ctx, w.e, "outsider", r.Number, nil)
		require.NoError(rt, err)
		if len(got.Mending.Mends) == 0 {
			met["no way"]++
			return
		}
		m := &got.Mending.Mends[rapid.IntRange(0, len(got.Mending.Mends)-1).Draw(rt, "way")]
		for i := range got.Mending.Mends { // which are few
			if got.Mending.Mends[i].Steps[0].Do == "join" {
				m = &got.Mending.Mends[i]
			}
		}
		p, err := w.work(func(d *plan.Planner) (*plan.Plan, error) { return request.Accept(d, r.Number, m) })
		require.NoError(rt, err)
		_, err = w.e.Change(ctx, p.Meta("test"), p.Keep)
		require.NoError(rt, err)
		met[m.Steps[0].Do]++
		if len(who) > 1 {
			met["several"]++
		}
		after := w.access()
		require.Equal(rt, w.shifts(before, after), shifts(p), "%v", m.Command)
		require.NoError(rt, w.e.View(ctx, func(tx *estate.Tx) error {
			k := ask.New(tx)
			l, err := k.Level(level)
			require.NoError(rt, err)
			for _, u := range who {
				yes, err := explain.Holds(k, u, where, l)
				require.NoError(rt, err)
				require.True(rt, yes, "%s %s %s by %v", u, level, where, m.Command)
			}
			now, err := request.FindRequest(tx, r.Number)
			require.NoError(rt, err)
			require.Equal(rt, request.Accepted, now.State)
			return tx.Err()
		}))
		for key, is := range after {
			user := key[strings.LastIndexByte(key, '|')+1:]
			if is&^before[key]&right.Access != 0 && !slices.Contains(who, user) && !w.nothing(is) {
				require.Contains(rt, m.People, user, "%v", m.Command)
			}
		}
		if until != "" && (m.Steps[0].Do == "join" || m.Steps[0].Do == "grant") {
			met["until"]++
			require.NoError(rt, w.e.View(ctx, func(tx *estate.Tx) error {
				bearers, members := tx.Overdue("2099-01-02")
				require.NotZero(rt, len(bearers)+len(members), "what was given ends")
				return tx.Err()
			}))
		}
	})
	t.Log(met)
	for _, what := range []string{"join", "grant", "several", "until", "not asked"} {
		proptest.Reached(t, met[what], 0, what)
	}
}

// TestFindingsAreSo: what is found is so, one by one; every mend that is made
// changes nobody's access.
func TestFindingsAreSo(t *testing.T) {
	met := map[string]int{}
	rapid.Check(t, func(rt *rapid.T) {
		w := worked(entryWorld(t, rt), rt)
		dead := dom.Child(7777)
		paths, _ := w.all()
		if len(paths) == 0 {
			return
		}
		for range 3 {
			at := plan.Targets{Where: []string{rapid.SampledFrom(paths).Draw(rt, "where")}, Plain: true}
			who := rapid.SampledFrom([]string{dead.String(), "u0", "g1", "g3", "empty"}).Draw(rt, "who")
			if who == "empty" {
				w.keep(func(d *plan.Planner) (*plan.Plan, error) {
					return people.AddAccounts(d, []string{"empty"}, people.NewAccount{Kind: acc.Group, POSIX: acc.NoPOSIX})
				})
			}
			kind := rapid.SampledFrom([]rule.Kind{rule.Allow, rule.Deny}).Draw(rt, "kind")
			w.keep(func(d *plan.Planner) (*plan.Plan, error) {
				return entry.Give(d, entry.Entry{Kind: kind, Who: who, What: "edit"}, at)
			})
		}
		w.keep(func(d *plan.Planner) (*plan.Plan, error) {
			return servers.AddLevel(d, "odd", "read-acl,write-acl", "", "")
		})
		var found []findings.Finding
		require.NoError(rt, w.e.View(ctx, func(tx *estate.Tx) (err error) {
			found, err = review.Findings(plan.New(tx, ""), "", nil)
			require.NoError(rt, err)
			items := map[string]int64{}
			for _, f := range found {
				met[f.Kind]++
				items[f.Kind] += f.Items
			}
			// Counted one by one.
			want := map[string]int64{}
			local, admins := map[int64]bool{}, false
			for _, s := range tx.Servers() {
				admins = admins || len(tx.Administrators(s)) > 0 && s.Traits.AdministratorsPass
			}
			k := ask.New(tx)
			for _, top := range tx.TopItems() {
				for _, id := range tx.Subtree(top, 10_000) {
					p := tx.Place(id)
					x := tx.Of(p.Strand).Listed()
					if up := tx.Above(p); len(up) > 0 && x.StaleUnder(up[0].Listed(), p.Folder) {
						want["stale"]++
					}
					if x.Rules.Misplaced() >= 0 {
						want["out-of-order"]++
					}
					ids := map[plan.ID]bool{}
					for _, e := range x.Rules.Own() {
						if k.Known(e.Who) == "unknown" && !ids[e.Who] {
							ids[e.Who] = true
							want["dead-identifier"]++
						}
					}
					for _, u := range tx.Accounts(acc.User) {
						if got := explain.Answer(k, u, p, nil, true); mask(got.Granted)&right.WriteACL != 0 {
							local[id] = true
						}
					}
					if !local[id] && !admins {
						want["nobody-in-charge"]++
					}
				}
			}
			for _, kind := range []string{"stale", "out-of-order", "dead-identifier"} {
				require.Equal(rt, want[kind], items[kind], kind)
			}
			if s := tx.Servers(); len(s) > 0 && !s[0].Traits.AsksFoldersAbove {
				require.Equal(rt, want["nobody-in-charge"], items["nobody-in-charge"], "nobody-in-charge")
			}
			w.sight(rt, tx, k, found, met)
			w.opened(rt, tx, k, found, met)
			w.further(rt, tx, k, found, met)
			return tx.Err()
		}))
		before, state := w.access(), strings.Join(w.state(), "\n")
		tried := 0
		for _, f := range found { // each that says so changes nothing alone
			if tried > 6 || !slices.Contains([]string{"idle-entry", "idle-deny", "dead-identifier", "empty-group", "unused-group", "unused-level"}, f.Kind) || !f.Repair.Any() {
				continue
			}
			tried++
			require.NoError(rt, w.e.Private(ctx, func(p *estate.Estate) error {
				in := &world{t: rt, e: p, users: w.users, who: w.who}
				in.keep(func(d *plan.Planner) (*plan.Plan, error) { return review.MendAll(d, []findings.Finding{f}) })
				require.Equal(rt, before, in.access(), "%s: %s %s, because of %s\n%s", f.Kind, f.Where, f.What, f.Other, state)
				return nil
			}))
		}
		var left []findings.Finding
		p, err := w.work(func(d *plan.Planner) (p *plan.Plan, err error) {
			p, left, err = review.MendFindings(d, found, false)
			return p, err
		})
		require.NoError(rt, err)
		if p.Changes() {
			met["mended"]++
			_, err = w.e.Change(ctx, p.Meta("test"), p.Keep)
			require.NoError(rt, err)
			require.Equal(rt, before, w.access(), p.Change)
		}
		for _, f := range left {
			if f.Repair.Any() {
				met["left"]++
			}
		}
	})
	t.Log(met)
	for _, what := range []string{"stale", "out-of-order", "dead-identifier", "single-user", "idle-entry", "idle-deny", "open-to-everyone", "nobody-in-charge", "out-of-sight", "share-too-wide",
		"share-too-narrow", "empty-group", "unused-level", "mended", "left"} {
		proptest.Reached(t, met[what], 0, what)
	}
}

func mask(s string) right.Set {
	var n uint32
	_, _ = fmt.Sscanf(s, "0x%x", &n)
	return right.Set(n)
}

// shared tells of all that shares come to, with who passes all rules there; false where a share
// may say itself who does.
func (w *world) shared(tx *estate.Tx, k *ask.Asker, fn func(sh *estate.Share, top, p estate.Place, passes map[plan.ID]bool)) bool {
	for _, s := range tx.Servers() {
		passes := map[plan.ID]bool{}
		for _, u := range tx.Accounts(acc.User) {
			tok := acc.NewToken(k.Directory(), u.ID, s.Traits.Traits)
			passes[u.ID] = s.Traits.AdministratorsPass && slices.ContainsFunc(tx.Administrators(s), tok.Has)
		}
		for _, sh := range tx.Shares(s) {
			top, err := tx.At(s, sh.Folder)
			if err != nil {
				continue
			}
			if sh.Admission != nil {
				return false
			}
			for _, id := range tx.Subtree(top.Item, 10_000) {
				fn(&sh, top, tx.Place(id), passes)
			}
		}
	}
	return true
}

// opened holds what administrators alone open to asking for each item, as each user.
func (w *world) opened(rt *rapid.T, tx *estate.Tx, k *ask.Asker, found []findings.Finding, met map[string]int) {
	seen, by := map[int64]bool{}, map[int64]bool{} // a share comes there; somebody else opens it
	if !w.shared(tx, k, func(sh *estate.Share, _ estate.Place, p estate.Place, passes map[plan.ID]bool) {
		seen[p.Item] = true
		for _, u := range tx.Accounts(acc.User) {
			by[p.Item] = by[p.Item] || !passes[u.ID] && mask(explain.Answer(k, u, p, sh, true).Granted)&right.ReadData != 0
		}
	}) {
		return
	}
	var want, got int64
	for id := range seen {
		p := tx.Place(id)
		up, err := tx.At(p.Server, place.Dir(p.Path))
		if err == nil && up.Item != id && !by[id] && by[up.Item] {
			want++
		}
	}
	for _, f := range found {
		if f.Kind == "administrators-alone" {
			got += f.More + 1
			met["opened by administrators alone"]++
		}
	}
	require.Equal(rt, want, got, "opened by administrators alone")
}

// further holds what opens further than the folder above to asking for each item, as each user.
func (w *world) further(rt *rapid.T, tx *estate.Tx, k *ask.Asker, found []findings.Finding, met map[string]int) {
	reads := func(u acc.Account, p estate.Place, sh *estate.Share) bool {
		q := k.Question(u.ID, p, sh)
		if d, ok := tx.Of(p.Strand).(*rule.Descriptor); ok && p.Folder {
			q.Item = rule.Compile(rule.NewChild(d, false, plan.ID{}, plan.ID{}, nil), q.Traits.Reading())
		}
		return verdict.Granted(q)&right.ReadData != 0
	}
	more := map[string]map[string]bool{}
	if !w.shared(tx, k, func(sh *estate.Share, top, p estate.Place, passes map[plan.ID]bool) {
		d := tx.Of(p.Strand).Listed()
		if p.Item == top.Item || !slices.ContainsFunc(d.Rules.Own(), func(e rule.Entry) bool {
			return e.Kind == rule.Allow && e.Who != d.Owner && e.Rights.Map()&right.ReadData != 0
		}) {
			return
		}
		up, err := tx.At(p.Server, place.Dir(p.Path))
		require.NoError(rt, err)
		way := true
		here := map[string]bool{}
		for _, u := range tx.Accounts(acc.User) {
			if passes[u.ID] || k.Account(u.ID).Shut != "" {
				continue
			}
			above := reads(u, up, sh)
			way = way && !above
			if !above && u.ID != d.Owner && reads(u, p, sh) {
				here[u.Name] = true
			}
		}
		if way || len(here) == 0 {
			return
		}
		if more[p.String()] == nil {
			more[p.String()] = map[string]bool{}
		}
		maps.Copy(more[p.String()], here)
	}) {
		return
	}
	for _, f := range found {
		if f.Kind != "opens-further" || len(tx.Shares(tx.Servers()[0])) == 0 {
			continue
		}
		met["opened further"]++
		require.NotEmpty(rt, more[f.Where], f.Where)
		if f.More == 0 {
			require.Len(rt, more[f.Where], f.Users, "%s: %s", f.Where, f.What)
		}
	}
	if len(more) > 0 && !slices.ContainsFunc(found, func(f findings.Finding) bool { return f.Kind == "opens-further" }) {
		folders := map[string]int{}
		for where := range more { // all of them are where most folders open to others, or told of as open to everyone
			at, err := tx.FindText(where)
			require.NoError(rt, err)
			if !slices.ContainsFunc(tx.Of(at.Strand).Listed().Rules.Own(), func(e rule.Entry) bool { return e.Who == acc.Everyone || e.Who == acc.Authenticated }) {
				folders[place.Dir(where)]++
			}
		}
		for where, n := range folders {
			require.GreaterOrEqual(rt, n, 3, "%s: %v", where, more)
		}
	}
}

// sight holds what is out of sight to walking down to each item as each user.
func (w *world) sight(rt *rapid.T, tx *estate.Tx, k *ask.Asker, found []findings.Finding, met map[string]int) {
	for _, s := range tx.Servers() {
		for _, sh := range tx.Shares(s) {
			hidden := map[string]bool{}
			top, err := tx.At(s, sh.Folder)
			if err != nil {
				continue
			}
			for _, id := range tx.Subtree(top.Item, 10_000) {
				p := tx.Place(id)
				for _, u := range tx.Accounts(acc.User) {
					if k.Account(u.ID).Shut != "" { // who can't sign on doesn't browse
						continue
					}
					reads := func(p estate.Place) bool { return mask(explain.Answer(k, u, p, &sh, true).Granted)&right.ReadData != 0 }
					if !reads(p) || id == top.Item {
						continue
					}
					seen := true
					for at := p; at.Item != top.Item; {
						up, err := tx.At(s, place.Dir(at.Path))
						require.NoError(rt, err)
						seen = seen && reads(up)
						at = up
					}
					if !seen {
						hidden[u.Name] = true
					}
				}
			}
			users := 0
			for _, f := range found {
				if f.Kind == "out-of-sight" && strings.HasPrefix(f.Where+"/", sh.Address()+"/") {
					users = max(users, f.Users)
				}
			}
			require.Equal(rt, len(hidden) > 0, users > 0, "%s: %v", sh.Address(), hidden)
			require.LessOrEqual(rt, users, len(hidden), sh.Address())
		}
	}
}
