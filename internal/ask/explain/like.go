package explain

import (
	"slices"

	"tarnwold/core/account"
	"tarnwold/core/right"
	"tarnwold/core/rule"
	"tarnwold/internal/ask"
	"tarnwold/internal/ask/uses"
	"tarnwold/internal/estate"
)

// LikeStep is a membership that has to come or go for one user to be in the
// same groups as another.
type LikeStep struct {
	Group account.ID
	Join  bool
	Until estate.Day
}

// LikeSteps lists what would make the second user equal to the first, as the
// commands that do it: memberships first, then what stands where one of them
// is named themselves. plan.Like does all of it at once.
func LikeSteps(k *ask.Asker, first, second string) (out [][]string, err error) {
	a, err := k.T.User(first)
	if err != nil {
		return nil, err
	}
	b, err := k.T.User(second)
	if err != nil {
		return nil, err
	}
	name := k.T.Name(b.ID)
	for _, s := range LikeMembers(k, a, b) {
		step := Step{Do: "leave", Who: name, Group: k.T.Name(s.Group)}
		if s.Join {
			step.Do = "join"
		}
		w := step.Words()
		if s.Join && s.Until != "" {
			w = append(w, "--until", string(s.Until))
		}
		out = append(out, w)
	}
	if a.Primary != b.Primary && !a.Primary.IsZero() {
		out = append(out, []string{"tarnwold", "user", "set", b.Name, "--primary", k.T.Name(a.Primary)})
	}
	for _, s := range k.T.Servers() {
		admins := k.T.Administrators(s)
		if has := slices.Contains(admins, a.ID); has != slices.Contains(admins, b.ID) {
			w := []string{"tarnwold", "server", "administrator", s.Name, name}
			if !has {
				w = append(w, "--remove")
			}
			out = append(out, w)
		}
	}
	entries := likeEntries(k, a, b)
	out = append(out, entries[:min(len(entries), mostLikeEntries)]...)
	if len(out) > 0 {
		out = append(out, []string{"tarnwold", "like", k.T.Name(a.ID), name})
	}
	return out, k.T.Err()
}

// mostLikeEntries is how many entries are written as commands at most; all of
// them come at once with plan.Like.
const mostLikeEntries = 40

// likeEntries lists the commands that give b the entries set for a themselves,
// and take away those set for b alone.
func likeEntries(k *ask.Asker, a, b account.Account) (out [][]string) {
	t := k.T
	forms := func(u account.Account) map[account.ID]bool {
		m := map[account.ID]bool{}
		for _, f := range t.Forms(u) {
			m[f] = true
		}
		return m
	}
	of, has := forms(a), forms(b)
	name := t.Name(b.ID)
	steps := func(d *rule.Descriptor, folder bool, where string, share bool) {
		same := func(e rule.Entry, who map[account.ID]bool) bool {
			return slices.ContainsFunc(d.Rules.Entries, func(o rule.Entry) bool {
				return who[o.Who] && o.Own() && o.Kind == e.Kind && o.Flags == e.Flags && o.Rights == e.Rights
			})
		}
		revoked := false
		for _, e := range d.Rules.Entries {
			switch {
			case !e.Own() || e.Kind.HasObject():
			case of[e.Who] && !same(e, has):
				verb := "grant"
				if e.Kind.Refuses() {
					verb = "deny"
				}
				part := right.OnFile
				if folder {
					part = right.OnFolder
				}
				w := []string{"tarnwold", verb, name, k.Lang.Levels.Write(e.Rights, part), where}
				switch {
				case share:
					w = append(w, "--share")
				case folder && e.Scope() != rule.Tree:
					w = append(w, "--scope", e.Scope().String())
				}
				out = append(out, w)
			case has[e.Who] && !same(e, of) && !revoked:
				revoked = true
				w := []string{"tarnwold", "revoke", name, where}
				if share {
					w = append(w, "--share")
				}
				out = append(out, w)
			}
		}
	}
	for _, s := range t.Servers() {
		for _, sh := range t.Shares(s) {
			steps(sh.Descriptor, true, sh.Address(), true)
		}
	}
	t.AllDescriptors(func(id int64, a rule.Any) {
		d := k.AsNamed(a)
		if len(out) > mostLikeEntries || !uses.Names(k, d, func(id account.ID) bool { return of[id] || has[id] }) {
			return
		}
		for _, strand := range t.StrandsOf(id) {
			_, folder, _, ok := t.StrandNow(strand)
			if !ok {
				continue
			}
			if owner, ok := k.HomeOf(d); ok && (of[owner] || has[owner]) { // stays each one's own
				continue
			}
			for _, item := range t.Items(strand, mostLikeEntries) {
				steps(d, folder, t.Where(item), false)
			}
		}
	})
	return out
}

// LikeMembers lists the memberships that would make b be in the groups a is
// in: the direct ones, for the rest follow from them.
func LikeMembers(k *ask.Asker, a, b account.Account) (out []LikeStep) {
	d := k.Directory()
	has := map[account.ID]bool{}
	for _, g := range d.GroupsOf(a.ID) {
		has[g] = true
		if is, ok := k.T.Member(g, a.ID); ok && !d.IsMember(g, b.ID) {
			out = append(out, LikeStep{g, true, is.Until})
		}
	}
	for _, g := range d.GroupsOf(b.ID) {
		if _, listed := k.T.Member(g, b.ID); listed && !has[g] && g != a.Primary {
			out = append(out, LikeStep{Group: g})
		}
	}
	return out
}
