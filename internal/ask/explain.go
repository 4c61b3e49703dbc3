package ask

import (
	"fmt"

	"tarnwold/core/account"
	"tarnwold/core/place"
	"tarnwold/core/posix"
	"tarnwold/core/right"
	"tarnwold/core/rule"
	"tarnwold/core/verdict"
	"tarnwold/internal/estate"
)

// Explained is what one user is granted on one item by one route, and why.
type Explained struct {
	User    Account       `json:"user"`
	Where   string        `json:"where"`
	Item    string        `json:"item"` // the server's own address
	Kind    string        `json:"kind"` // folder or file
	Owner   Account       `json:"owner"`
	Server  string        `json:"server"`
	Route   string        `json:"route"` // //server/share, or local
	Door    Door          `json:"connection"`
	Granted string        `json:"granted"` // hexadecimal mask, synchronize left out
	Level   string        `json:"level"`
	ByFile  string        `json:"by-file,omitempty"`  // what the item's rules give, as a level
	ByShare string        `json:"by-share,omitempty"` // what the share lets through
	Acts    []ActAnswer   `json:"acts,omitempty"`     // what people ask first, in the order they ask
	Rights  []RightAnswer `json:"rights,omitempty"`
	Group   bool          `json:"asked-for-a-group,omitempty"` // somebody who is in this group and in no other
	// NotAtOnce: he can read and he can write, by two groups, and open for both
	// at once by none.
	NotAtOnce bool   `json:"read-and-write-not-at-once,omitempty"`
	Rules     string `json:"rules,omitempty"` // present, absent (open to everyone) or empty (closed)
	Error     string `json:"error,omitempty"` // why it can't be answered, among many
}

// Nothing tells whether nothing worth a name is granted.
func (e *Explained) Nothing() bool { return e.Level == "nothing" }

// Door is what the share's connection lets through.
type Door struct {
	Open string `json:"open"`              // yes, read-only or refused
	Why  string `json:"because,omitempty"` // no-data, no-reading, rules-absent, switched, no-writing
	// By is the entry of the share that refuses what the connection needs,
	// where one does; for not-listed, barred and read-listed the configuration:
	// Entry is the name it has, SetOn the file.
	By *Reason `json:"by,omitempty"`
}

var doors = [...]string{verdict.NoData: "no-data", verdict.NoReading: "no-reading", verdict.RulesGone: "rules-absent",
	verdict.Switched: "switched", verdict.NotWriting: "no-writing", verdict.NotListed: "not-listed", verdict.Barred: "barred", verdict.ReadListed: "read-listed"}

func door(d verdict.Door) Door {
	out := Door{Open: "yes", Why: doors[d.Why]}
	switch {
	case d.Refused:
		out.Open = "refused"
	case d.ReadOnly:
		out.Open = "read-only"
	}
	return out
}

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
func (k *Asker) acts(user account.Account, p estate.Place, sh *estate.Share) (out []ActAnswer) {
	top := len(p.Trail) == 1 || sh != nil && sh.Begins(p.Path)
	for _, name := range asked(p.Folder, top) {
		t := k.tryHere(user, name, p, sh)
		out = append(out, ActAnswer{name, t.Allowed, t.Needs[0]})
	}
	return out
}

// tryHere tries an act on an item, or making something in it.
func (k *Asker) tryHere(user account.Account, act string, p estate.Place, sh *estate.Share) *Tried {
	p.Share = sh
	s := &spots{item: &p, share: sh, folderKind: p.Folder, where: p.Via()}
	s.act, _ = verdict.ActNamed(act)
	switch {
	case s.act.Takes == verdict.NewFile || s.act.Takes == verdict.NewFolder: // in the folder itself
		s.item, s.folder, s.hasFolder, s.folderKind = nil, p, true, s.act.Takes == verdict.NewFolder
	case s.act.To == verdict.NewName:
		s.folder, s.hasFolder = k.folderOf(p), true
	}
	return k.TryOn(user, s, true)
}

// folderOf gives the folder above a place, without its number.
func (k *Asker) folderOf(p estate.Place) estate.Place {
	p.Path, p.Trail, p.Folder, p.Item = place.Dir(p.Path), p.Trail[1:], true, 0
	p.Strand = p.Trail[0]
	return p
}

// doorReason finds the deny entry of a share that closes its connection, or
// makes it read-only.
func (k *Asker) doorReason(q *verdict.Question, sh *estate.Share, d verdict.Door) *Reason {
	if l := q.Share.Lists; l != nil {
		self := q.Token
		if q.Self != nil {
			self = q.Self
		}
		for _, x := range []struct {
			why   verdict.DoorWhy
			names []string
		}{{verdict.Barred, sh.Admission.Never}, {verdict.ReadListed, sh.Admission.Reading}} {
			if d.Why != x.why {
				continue
			}
			for _, n := range x.names {
				if id, ok := k.Listed(n); ok && self.Has(id) {
					return &Reason{By: "configuration", Deny: true, Entry: n, SetOn: sh.Admission.File, Chain: k.chain(self, id)}
				}
			}
		}
		if d.Why == verdict.NotListed {
			return &Reason{By: "configuration", SetOn: sh.Admission.File}
		}
	}
	one := right.ReadData
	switch {
	case d.Why == verdict.NotWriting:
		one = right.WriteData
	case q.Share.Rules == nil || d.Why == verdict.RulesGone || d.Why == verdict.Switched:
		return nil
	}
	for i := range q.Share.Rules.Steps {
		s := &q.Share.Rules.Steps[i]
		if s.Rights&one == 0 || !s.Who.IsZero() && !q.Token.Has(s.Who) {
			continue
		}
		if !s.Refuses || s.Entry < 0 {
			return nil
		}
		return &Reason{By: "entry", Deny: true, Entry: ShareEntry(k.lang, sh.Descriptor.Rules.Entries[s.Entry]), SetOn: "share " + sh.Address(), Chain: k.chain(q.Token, s.Who)}
	}
	return nil
}

// RightAnswer is the answer for one right.
type RightAnswer struct {
	Right   string  `json:"right"`
	Granted bool    `json:"granted"`
	File    Reason  `json:"file"`
	Share   *Reason `json:"share,omitempty"`
}

// Reason is what decided about a right in one place.
type Reason struct {
	Granted bool `json:"granted"`
	// By is what decided: entry, owner, absent, above (delete-child on the
	// folder above), naming, administrator, traverse, nothing, read-only (the
	// share is switched so), no-writing (its rules give no write-data),
	// connection (which the share refuses), reach (whoever gets to an item of a
	// POSIX tree sees what it is), posix-owner, owners-alone and root-alone (who may,
	// on a POSIX tree), folder (which gives no write and execute together),
	// sticky, kernel (asked besides by an SMB server), share-stops (taking out of folders), never-runs (a file without any execute bit), or configuration (of the server:
	// Entry is the name on its list, none where he isn't on it).
	By    string   `json:"by"`
	Entry string   `json:"entry,omitempty"`       // as written
	Deny  bool     `json:"deny,omitempty"`        // the entry refuses
	SetOn string   `json:"set-on,omitempty"`      // the folder or share the entry is set on; empty for an entry that stands nowhere now
	Kept  bool     `json:"kept-beside,omitempty"` // the entry is one of a descriptor that an SMB server keeps beside a POSIX list
	Stale bool     `json:"stale,omitempty"`       // no folder above hands the entry down now
	Chain []string `json:"chain,omitempty"`       // from the user to the entry's account
	Class *Class   `json:"class,omitempty"`       // of a POSIX list: which part of it decided
	// Nearest is an entry that grants the right to somebody else, where by is
	// nothing; Missed whom it names, and who asks is not in.
	Nearest    string `json:"nearest,omitempty"`
	Missed     string `json:"nearest-account,omitempty"`
	MissedUser bool   `json:"nearest-is-user,omitempty"`
}

// Explain answers one question, by one answer a route; brief leaves the
// reasons out.
func (k *Asker) Explain(who, where string, brief bool) ([]*Explained, error) {
	user, p, err := k.userAt(who, where)
	if err != nil {
		return nil, err
	}
	var out []*Explained
	for _, sh := range k.routes(p) {
		out = append(out, k.Answer(user, p, sh, brief))
	}
	return out, k.t.Err()
}

// userAt finds a user and a place.
func (k *Asker) userAt(who, where string) (user account.Account, p estate.Place, err error) {
	if user, err = k.t.User(who); err == nil {
		p, err = k.Place(where)
	}
	return user, p, err
}

// routes lists the ways to a place: the share it was asked for through, or else
// every share that comes there and, last, the server itself, which is nil.
func (k *Asker) routes(p estate.Place) (out []*estate.Share) {
	if p.Share != nil {
		return []*estate.Share{p.Share}
	}
	for _, sh := range k.Through(p) {
		out = append(out, &sh)
	}
	return append(out, nil)
}

// Answer is Explain for one route.
func (k *Asker) Answer(user account.Account, p estate.Place, sh *estate.Share, brief bool) *Explained {
	q := k.Question(user.ID, p, sh)
	levels := k.lang.Levels
	rules := k.t.Of(p.Strand)
	d := k.AsEntries(rules)
	a := &Explained{User: Account{Name: k.t.Name(user.ID)}, Where: p.By(sh).String(), Item: p.String(), Kind: Kind(p.Folder), Server: p.Server.Name,
		Route: "local", Group: user.Kind == account.Group, Rules: rulesAre(&d.Rules)}
	if sh != nil {
		a.Route = sh.Address()
	}
	if brief {
		granted := verdict.Granted(q)
		a.Granted, a.Level = mask(granted), LevelOn(levels, rules, granted, p.Folder)
		return a
	}
	a.User, a.Owner = k.Account(user.ID), k.Account(d.Owner)
	v := verdict.Decide(q)
	a.Door, a.Granted, a.Level = door(v.Door), mask(v.Granted), LevelOn(levels, rules, v.Granted, p.Folder)
	if sh != nil && (v.Door.Refused || v.Door.ReadOnly) {
		a.Door.By = k.doorReason(q, sh, v.Door)
	}
	a.Acts = k.acts(user, p, sh)
	above := k.t.Above(p)
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
		r := RightAnswer{Right: f.Right.Names(p.Folder)[0], Granted: f.Granted, File: k.fileReason(q, p, rules, above, f, sh)}
		k.nearest(&r.File, q, d, f.Right, p.Folder)
		if sh != nil {
			s := k.shareReason(q, sh, f.Share, f.ShareOK)
			r.Share = &s
		}
		a.Rights = append(a.Rights, r)
	}
	if x, ok := rules.(*posix.Rules); ok && !p.Folder && !q.Passes() && v.Granted.Has(right.ReadData|right.WriteData) {
		both, _ := x.Permits(q.Token.Has, posix.R|posix.W)
		a.NotAtOnce = !both
	}
	a.ByFile = LevelOn(levels, rules, file, p.Folder)
	if sh != nil {
		a.ByShare = LevelOn(levels, rules, share, p.Folder)
	}
	return a
}

func mask(s right.Set) string { return fmt.Sprintf("0x%x", uint32(s&right.Access)) }

func rulesAre(r *rule.Rules) string {
	switch {
	case r.Absent:
		return "absent"
	case len(r.Entries) == 0:
		return "empty"
	}
	return "present"
}

// origin is rule.Origin where the folders above may have rules of another kind.
func (k *Asker) origin(e rule.Entry, folder bool, above []rule.Any) (place, index int, ok bool) {
	list := make([]*rule.Descriptor, len(above))
	for i, a := range above {
		list[i] = k.AsEntries(a)
	}
	return rule.Origin(e, folder, list)
}

// keptBeside is a descriptor that an SMB server keeps beside a POSIX list.
type keptBeside struct{ *rule.Descriptor }

// ruling gives the rules whose entries decide by a route: a POSIX item's own, or
// the descriptor kept beside it.
func ruling(a rule.Any, tr *verdict.Traits) rule.Any {
	if x, ok := a.(*posix.Rules); ok && x.Kept != nil && tr.Reading().Served == rule.ServedKept {
		return keptBeside{x.Kept}
	}
	return a
}

// entryReason tells of an entry of a place which one it is and where it is set.
func (k *Asker) entryReason(r *Reason, a rule.Any, entry int, folder bool, p estate.Place, up int, above []rule.Any) {
	if x, ok := a.(*posix.Rules); ok {
		r.Class = k.class(x, entry)
		r.Entry, r.SetOn = r.Class.Entry, p.Up(up)
		return
	}
	if kept, ok := a.(keptBeside); ok {
		e := kept.Rules.Entries[entry]
		r.Entry, r.Deny, r.Kept, r.SetOn = k.lang.Write(e, folder), e.Kind.Refuses(), true, p.Up(up)
		return
	}
	e := k.AsEntries(a).Rules.Entries[entry]
	r.Entry, r.Deny = k.lang.Write(e, folder), e.Kind.Refuses()
	if e.Own() {
		r.SetOn = p.Up(up)
		return
	}
	at, _, ok := k.origin(e, folder, above)
	if !ok {
		r.Stale = true
		return
	}
	r.SetOn = p.Up(up + 1 + at)
}

func (k *Asker) fileReason(q *verdict.Question, p estate.Place, d rule.Any, above []rule.Any, f verdict.Finding, sh *estate.Share) Reason {
	b := f.File
	r := Reason{Granted: f.FileOK}
	switch b.Source {
	case verdict.ByBeneath:
		r.By = "kernel"
		k.entryReason(&r, d, b.Entry, p.Folder, p, 0, above)
		k.alsoIn(&r, d, q.Token)
		r.Chain = k.chain(q.Token, b.Who)
	case verdict.ByEntry:
		r.By = "entry"
		k.entryReason(&r, ruling(d, q.Traits), b.Entry, p.Folder, p, 0, above)
		k.alsoIn(&r, d, q.Token)
		r.Chain = k.chain(q.Token, b.Who)
	case verdict.ByParent:
		r.By = "above"
		up, parent := 1, d
		if sh != nil && sh.Begins(p.Path) {
			up = 0 // the share's own folder, taken for the folder above itself
		} else {
			parent, above = above[0], above[1:]
		}
		if b.Entry < 0 {
			r.SetOn = p.Up(up)
			break
		}
		k.entryReason(&r, ruling(parent, q.Traits), b.Entry, true, p, up, above)
		k.alsoIn(&r, parent, q.Token)
		r.Chain = k.chain(q.Token, b.Who)
	case verdict.ByOwner:
		r.By = "owner"
		if _, ok := d.(*posix.Rules); ok && q.Item.Beneath == nil {
			r.By = "posix-owner"
		}
		r.Chain = k.chain(q.Token, b.Who)
	case verdict.ByAbsence:
		r.By = "absent"
	case verdict.ByReach:
		r.By = "reach"
	case verdict.ByNaming:
		r.By = "naming"
	case verdict.ByAdmin:
		r.By = "administrator"
	case verdict.ByTraverse:
		r.By, r.SetOn = "traverse", p.Up(b.Folder+1)
		if b.Folder == len(above) { // a share's own folder, asked itself
			r.SetOn = p.Up(0)
		}
	default:
		r.By = "nothing"
		if x, ok := d.(*posix.Rules); ok && q.Item.Beneath == nil {
			k.ungiven(&r, q, x, p, f.Right, above)
		}
	}
	return r
}

// nearest finds, where nothing grants a right, an entry that grants it to a
// group the user isn't in, or to somebody else.
func (k *Asker) nearest(r *Reason, q *verdict.Question, d *rule.Descriptor, one right.Set, folder bool) {
	if r.By != "nothing" || r.Granted || q.Item.Beneath != nil {
		return
	}
	for _, groups := range []bool{true, false} {
		for i := range q.Item.Steps {
			s := &q.Item.Steps[i]
			if s.Refuses || s.Rights&one == 0 || s.Entry < 0 || s.Entry >= len(d.Rules.Entries) {
				continue
			}
			e := d.Rules.Entries[s.Entry]
			if a, ok := k.t.Account(e.Who); !ok || groups != (a.Kind == account.Group) || a.ID == q.Token.User() {
				continue
			}
			r.Nearest, r.Missed, r.MissedUser = k.lang.Write(e, folder), k.t.Name(e.Who), !groups
			return
		}
	}
}

func (k *Asker) shareReason(q *verdict.Question, sh *estate.Share, b verdict.Because, granted bool) Reason {
	r := Reason{Granted: granted, SetOn: "share " + sh.Address()}
	switch b.Source {
	case verdict.ByEntry:
		e := sh.Descriptor.Rules.Entries[b.Entry]
		r.By, r.Entry, r.Deny = "entry", ShareEntry(k.lang, e), e.Kind.Refuses()
		r.Chain = k.chain(q.Token, b.Who)
	case verdict.ByOwner:
		r.By = "owner"
		r.Chain = k.chain(q.Token, b.Who)
	case verdict.ByReadOnly:
		r.By = "read-only"
		switch d, _ := q.Connect(); d.Why {
		case verdict.NotWriting:
			r.By = "no-writing"
		case verdict.ReadListed:
			return *k.doorReason(q, sh, d)
		}
	case verdict.ByConnection:
		r.By = "connection"
		if d, _ := q.Connect(); d.Why == verdict.Barred || d.Why == verdict.NotListed {
			return *k.doorReason(q, sh, d)
		}
	case verdict.ByAbsence:
		r.By = "absent"
	default:
		r.By = "nothing"
	}
	return r
}

func (k *Asker) chain(tok *account.Token, id account.ID) (out []string) {
	if id.IsZero() { // whoever asks
		id = tok.User()
	}
	links := tok.Chain(id)
	if n := len(links); n > 1 && k.t.AccountOf(id) == links[n-2].ID { // the same by its number
		links = links[:n-1]
	}
	for _, l := range links {
		out = append(out, k.t.Name(l.ID))
	}
	return out
}

// ShareEntry writes an entry of a share, which has no scope.
func ShareEntry(lang rule.Language, e rule.Entry) string { return lang.Write(e, false) }

// Unchanged says why an entry that comes gives a user nothing new on a place
// through a share: already is true where they had it all. before and after
// are the item's rules.
func (k *Asker) Unchanged(user account.ID, p estate.Place, before, after rule.Any, e rule.Entry, sh *estate.Share) (r Reason, already bool) {
	q := k.Question(user, p, sh)
	how := p.Server.Traits.Reading()
	wanted := e.Rights.Map() & right.Access
	q.Item = k.Read(before, how)
	if verdict.Granted(q).Has(wanted) {
		return r, true
	}
	q.Item = k.Read(after, how)
	above := k.t.Above(p)
	for _, f := range verdict.Decide(q).Findings {
		if f.Right&wanted == 0 || f.Granted {
			continue
		}
		if !f.FileOK {
			return k.fileReason(q, p, after, above, f, sh), false
		}
		return k.shareReason(q, sh, f.Share, false), false
	}
	return r, true
}
