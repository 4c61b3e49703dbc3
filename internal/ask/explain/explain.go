// Package explain answers for one user: what is granted where, by which entry and
// group, what an act would come to, what would change it, what changed it.
package explain

import (
	"slices"

	"tarnwold/core/account"
	"tarnwold/core/posix"
	"tarnwold/core/right"
	"tarnwold/core/rule"
	"tarnwold/core/rule/condition"
	"tarnwold/core/verdict"
	"tarnwold/internal/ask"
	"tarnwold/internal/estate"
)

// Explained is what one user is granted on one item by one route, and why.
type Explained struct {
	User    ask.Account    `json:"user"`
	Where   string         `json:"where"`
	Item    string         `json:"item"` // the server's own address
	Kind    string         `json:"kind"` // folder or file
	Owner   ask.Account    `json:"owner"`
	Server  string         `json:"server"`
	Route   string         `json:"route"` // //server/share, or local
	Door    ask.Connection `json:"connection"`
	Granted string         `json:"granted"` // hexadecimal mask, synchronize left out
	Level   string         `json:"level"`
	ByFile  string         `json:"by-file,omitempty"`  // what the item's rules give, as a level
	ByShare string         `json:"by-share,omitempty"` // what the share lets through
	Acts    []ActAnswer    `json:"acts,omitempty"`     // what people ask first, in the order they ask
	Rights  []RightAnswer  `json:"rights,omitempty"`
	Group   bool           `json:"asked-for-a-group,omitempty"` // somebody who is in this group and in no other
	// NotAtOnce: they can read and they can write, by two groups, and open for both
	// at once by none.
	NotAtOnce bool   `json:"read-and-write-not-at-once,omitempty"`
	Rules     string `json:"rules,omitempty"` // present, absent (open to everyone) or empty (closed)
	Marked    bool   `json:"marked-read-only,omitempty"`
	// NotCounted is what the server's configuration has of the share that changes an
	// answer and isn't counted in this one.
	NotCounted []string `json:"not-counted,omitempty"`
	// Marks stand beside the lists of an item of a POSIX tree and count for everybody.
	Marks []string `json:"marks,omitempty"`
	// NotKnown is what conditions of entries for the user ask for and nobody told: an entry
	// that allows doesn't count then, and one that denies does.
	NotKnown []string `json:"facts-not-known,omitempty"`
	// AsSpecified: the server is taken to do as the standards say, and none like it was
	// measured.
	AsSpecified bool   `json:"as-specified,omitempty"`
	Error       string `json:"error,omitempty"` // why it can't be answered, among many
}

// Nothing tells whether nothing worth a name is granted.
func (e *Explained) Nothing() bool { return e.Level == "nothing" }

// ActAnswer tells whether the user can do an act, and what decides that: the
// first right that is missing, or where none is the first one needed.
type ActAnswer struct {
	Act     string `json:"act"`
	Allowed bool   `json:"allowed"`
	Decides Needed `json:"decided-by"`
}

// asked lists the acts of an explanation; at a top nothing is renamed, moved
// or deleted.
func asked(folder, top bool) []string {
	first := []string{"read", "save"}
	if folder {
		first = []string{"list", "create", "make-folder"}
	}
	if !top {
		first = append(first, "rename", "delete")
	}
	return append(first, "change-rules", "take-owner")
}

// acts answers for the acts of an explanation.
func acts(k *ask.Asker, user account.Account, p estate.Place, sh *estate.Share) (out []ActAnswer) {
	top := len(p.Trail) == 1 || sh != nil && sh.Begins(p.Path)
	for _, name := range asked(p.Folder, top) {
		t := TryHere(k, user, name, p, sh)
		out = append(out, ActAnswer{name, t.Allowed, t.Needs[0]})
	}
	return out
}

// TryHere tries an act on an item, or making something in it.
func TryHere(k *ask.Asker, user account.Account, act string, p estate.Place, sh *estate.Share) *Tried {
	p.Share = sh
	s := &operands{item: &p, share: sh, folderKind: p.Folder, where: p.Via()}
	s.act, _ = verdict.ActNamed(act)
	switch {
	case s.act.Takes == verdict.NewFile || s.act.Takes == verdict.NewFolder: // in the folder itself
		s.item, s.folder, s.hasFolder, s.folderKind = nil, p, true, s.act.Takes == verdict.NewFolder
	case s.act.To == verdict.NewName:
		s.folder, s.hasFolder = k.FolderOf(p), true
	}
	return TryOn(k, user, s, true)
}

// RightAnswer is the answer for one right.
type RightAnswer struct {
	Right   string      `json:"right"`
	Granted bool        `json:"granted"`
	File    ask.Reason  `json:"file"`
	Share   *ask.Reason `json:"share,omitempty"`
}

// Explain answers one question, by one answer a route; brief leaves the
// reasons out.
func Explain(k *ask.Asker, who, where string, brief bool) ([]*Explained, error) {
	user, p, err := userAt(k, who, where)
	if err != nil {
		return nil, err
	}
	var out []*Explained
	for _, sh := range k.Routes(p) {
		out = append(out, Answer(k, user, p, sh, brief))
	}
	return out, k.T.Err()
}

// userAt finds a user and a place.
func userAt(k *ask.Asker, who, where string) (user account.Account, p estate.Place, err error) {
	if user, err = k.T.User(who); err == nil {
		p, err = k.Place(where)
	}
	return user, p, err
}

// Answer is Explain for one route.
func Answer(k *ask.Asker, user account.Account, p estate.Place, sh *estate.Share, brief bool) *Explained {
	defer k.T.NumbersOf(p.Server)()
	q := k.Question(user.ID, p, sh)
	levels := k.Lang.Levels
	rules := k.T.Of(p.Strand)
	d := k.AsEntries(rules)
	a := &Explained{User: ask.Account{Name: k.T.Name(user.ID)}, Where: p.By(sh).String(), Item: p.String(), Kind: ask.Kind(p.Folder), Server: p.Server.Name,
		Route: "local", Group: user.Kind == account.Group, Rules: ask.RulesAre(&d.Rules)}
	if sh != nil {
		a.Route = sh.Address()
	}
	a.NotCounted, a.AsSpecified = k.NotCountedOn(p, sh), p.Server.Traits.AsSpecified
	if brief {
		granted := verdict.Granted(q)
		a.Granted, a.Level = ask.Mask(granted), ask.LevelOn(levels, rules, granted, p.Folder)
		return a
	}
	a.NotKnown = notKnown(q)
	a.User, a.Owner = k.Signing(user.ID, q.Token), k.Account(d.Owner)
	v := verdict.Decide(q)
	if d, ok := rules.(*rule.Descriptor); ok {
		a.Marked = d.Mark != 0
	}
	if x, ok := rules.(*posix.Rules); ok {
		a.Marks = x.Marks.Names()
	}
	a.Door, a.Granted, a.Level = ask.ConnectionOf(v.Door), ask.Mask(v.Granted), ask.LevelOn(levels, rules, v.Granted, p.Folder)
	if v.Door.Refused || v.Door.ReadOnly {
		a.Door.By = k.ConnectionReason(q, sh, v.Door)
	}
	a.Acts = acts(k, user, p, sh)
	above := k.T.Above(p)
	var file, share right.Set
	for _, f := range v.Findings {
		if f.FileOK {
			file |= f.Right
		}
		if f.ShareOK {
			share |= f.Right
		}
		if f.Right == right.Synchronize {
			continue
		}
		r := RightAnswer{Right: f.Right.Names(p.Folder)[0], Granted: f.Granted, File: k.FileReason(q, p, rules, above, f, sh)}
		nearest(k, &r.File, q, d, f.Right, p.Folder)
		if sh != nil {
			s := k.ShareReason(q, sh, f.Share, f.ShareOK)
			r.Share = &s
		}
		a.Rights = append(a.Rights, r)
	}
	if x, ok := rules.(*posix.Rules); ok && !p.Folder && !q.Passes() && v.Granted.Has(right.ReadData|right.WriteData) {
		both, _ := x.Permits(q.Token.Has, posix.R|posix.W)
		if a.NotAtOnce = !both; !both {
			a.Level = posix.LevelApart(v.Granted)
		}
	}
	a.ByFile = ask.LevelOn(levels, rules, file, p.Folder)
	if sh != nil {
		a.ByShare = ask.LevelOn(levels, rules, share, p.Folder)
	}
	return a
}

// notKnown lists what the conditions of an item's entries ask of a user and nobody told.
func notKnown(q *verdict.Question) (out []string) {
	for i := range q.Item.Steps {
		s := &q.Item.Steps[i]
		if s.If == nil || !s.Who.IsZero() && !q.Token.Has(s.Who) || s.If.Holds(q.Token) != condition.Unknown {
			continue
		}
		for _, f := range s.If.Missing(q.Token) {
			if !slices.Contains(out, f) {
				out = append(out, f)
			}
		}
	}
	return out
}

// nearest finds, where nothing grants a right, an entry that grants it to a
// group the user isn't in, or to somebody else.
func nearest(k *ask.Asker, r *ask.Reason, q *verdict.Question, d *rule.Descriptor, one right.Set, folder bool) {
	if r.By != "nothing" || r.Granted || q.Item.Beneath != nil {
		return
	}
	for _, groups := range []bool{true, false} {
		for i := range q.Item.Steps {
			s := &q.Item.Steps[i]
			if s.Refuses || s.If != nil || s.Rights&one == 0 || s.Entry < 0 || s.Entry >= len(d.Rules.Entries) {
				continue
			}
			e := d.Rules.Entries[s.Entry]
			if a, ok := k.T.Account(e.Who); !ok || groups != (a.Kind == account.Group) || a.ID == q.Token.User() {
				continue
			}
			r.Nearest, r.Missed, r.MissedUser = k.Lang.Write(e, folder), k.T.Name(e.Who), !groups
			return
		}
	}
}

// Unchanged says why an entry that comes gives a user nothing new on a place
// through a share: already is true where they had it all. before and after
// are the item's rules.
func Unchanged(k *ask.Asker, user account.ID, p estate.Place, before, after rule.Any, e rule.Entry, sh *estate.Share) (r ask.Reason, already bool) {
	q := k.Question(user, p, sh)
	how := p.Server.Traits.Reading()
	wanted := e.Rights.Map() & right.Access
	q.Item = k.Read(before, how)
	if verdict.Granted(q).Has(wanted) {
		return r, true
	}
	q.Item = k.Read(after, how)
	above := k.T.Above(p)
	for _, f := range verdict.Decide(q).Findings {
		if f.Right&wanted == 0 || f.Granted {
			continue
		}
		if !f.FileOK {
			return k.FileReason(q, p, after, above, f, sh), false
		}
		return k.ShareReason(q, sh, f.Share, false), false
	}
	return r, true
}
