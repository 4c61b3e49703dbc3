package ask

import (
	"tarnwold/core/account"
	"tarnwold/core/place"
	"tarnwold/core/posix"
	"tarnwold/core/right"
	"tarnwold/core/rule"
	"tarnwold/core/verdict"
	"tarnwold/internal/estate"
)

// FolderOf gives the folder above a place, without its number.
func (k *Asker) FolderOf(p estate.Place) estate.Place {
	p.Path, p.Trail, p.Folder, p.Item = place.Dir(p.Path), p.Trail[1:], true, 0
	p.Strand = p.Trail[0]
	return p
}

// ConnectionReason finds the deny entry of a share that closes its connection, or
// makes it read-only.
func (k *Asker) ConnectionReason(q *verdict.Question, sh *estate.Share, d verdict.Connection) *Reason {
	if q.Nobody() {
		r := k.noAccount(q)
		return &r
	}
	if l := q.Share.Lists; l != nil {
		self := q.Token
		if q.Self != nil {
			self = q.Self
		}
		for _, x := range []struct {
			why   verdict.ConnectionWhy
			names []string
		}{{verdict.Barred, sh.Admission.Never}, {verdict.ReadListed, sh.Admission.Reading}} {
			if d.Why != x.why {
				continue
			}
			for _, n := range x.names {
				if id, ok := k.Listed(n); ok && self.Has(id) {
					return &Reason{By: "configuration", Deny: true, Entry: n, SetOn: sh.Admission.File, Chain: k.Chain(self, id)}
				}
			}
		}
		if d.Why == verdict.Nowhere {
			return &Reason{By: "configuration", Entry: NoMachine, SetOn: sh.Admission.File}
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
		if s.Rights&one == 0 || !s.Fits(q.Token) {
			continue
		}
		if !s.Refuses || s.Entry < 0 {
			return nil
		}
		return &Reason{By: "entry", Deny: true, Entry: ShareEntry(k.Lang, sh.Descriptor.Rules.Entries[s.Entry]), SetOn: "share " + sh.Address(), Chain: k.Chain(q.Token, s.Who)}
	}
	return nil
}

// NoMachine stands for a list of machines that none is on.
const NoMachine = "from-no-machine"

// Reason is what decided about a right in one place.
type Reason struct {
	Granted bool `json:"granted"`
	// By is what decided: entry, owner, absent, above (delete-child on the
	// folder above), naming, administrator, traverse, nothing, read-only (the
	// share is switched so), no-writing (its rules give no write-data),
	// connection (which the share refuses), reach (whoever gets to an item of a
	// POSIX tree sees what it is), posix-owner, owners-alone and root-alone (who may,
	// on a POSIX tree), folder (which gives no write and execute together),
	// sticky, kernel (asked besides by an SMB server), share-stops (taking out of folders), never-runs (a file without any execute bit), configuration (of the server:
	// Entry is the name on its list, none where they aren't on it), running (the share asks nobody for execute), mark (the item's read-only mark), privilege (Entry is
	// which, and passes all rules),
	// no-account (who asks is the own account of the machine that Entry names),
	// label (the item's mandatory label, above who asks),
	// or taking (of a share whose rules don't give everything: nothing to BUILTIN\Administrators).
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

// Origin is rule.Origin where the folders above may have rules of another kind.
func (k *Asker) Origin(e rule.Entry, folder bool, above []rule.Any) (place, index int, ok bool) {
	list := make([]*rule.Descriptor, len(above))
	for i, a := range above {
		list[i] = k.AsEntries(a)
	}
	return rule.Origin(e, folder, list)
}

// keptBeside is a descriptor that an SMB server keeps beside a POSIX list.
type keptBeside struct{ *rule.Descriptor }

// Ruling gives the rules whose entries decide by a route: a POSIX item's own, or
// the descriptor kept beside it.
func Ruling(a rule.Any, tr *verdict.Traits) rule.Any {
	if x, ok := a.(*posix.Rules); ok && x.Kept != nil && tr.Reading().Served == rule.ServedKept {
		return keptBeside{x.Kept}
	}
	return a
}

// EntryReason tells of an entry of a place which one it is and where it is set.
func (k *Asker) EntryReason(r *Reason, a rule.Any, entry int, folder bool, p estate.Place, up int, above []rule.Any) {
	if x, ok := a.(*posix.Rules); ok {
		r.Class = k.class(x, entry)
		r.Entry, r.SetOn = r.Class.Entry, p.Up(up)
		return
	}
	if kept, ok := a.(keptBeside); ok {
		e := kept.Rules.Entries[entry]
		r.Entry, r.Deny, r.Kept, r.SetOn = k.Lang.Write(e, folder), e.Kind.Refuses(), true, p.Up(up)
		return
	}
	e := k.AsEntries(a).Rules.Entries[entry]
	r.Entry, r.Deny = k.Lang.Write(e, folder), e.Kind.Refuses()
	if e.Own() {
		r.SetOn = p.Up(up)
		return
	}
	at, _, ok := k.Origin(e, folder, above)
	if !ok {
		r.Stale = true
		return
	}
	r.SetOn = p.Up(up + 1 + at)
}

func (k *Asker) FileReason(q *verdict.Question, p estate.Place, d rule.Any, above []rule.Any, f verdict.Finding, sh *estate.Share) Reason {
	if q.Nobody() {
		return k.noAccount(q)
	}
	b := f.File
	r := Reason{Granted: f.FileOK}
	switch b.Source {
	case verdict.ByBeneath:
		r.By = "kernel"
		k.EntryReason(&r, d, b.Entry, p.Folder, p, 0, above)
		k.alsoIn(&r, d, q.Token)
		r.Chain = k.Chain(q.Token, b.Who)
	case verdict.ByEntry:
		r.By = "entry"
		k.EntryReason(&r, Ruling(d, q.Traits), b.Entry, p.Folder, p, 0, above)
		k.alsoIn(&r, d, q.Token)
		r.Chain = k.Chain(q.Token, b.Who)
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
		k.EntryReason(&r, Ruling(parent, q.Traits), b.Entry, true, p, up, above)
		k.alsoIn(&r, parent, q.Token)
		r.Chain = k.Chain(q.Token, b.Who)
	case verdict.ByOwner:
		r.By = "owner"
		if _, ok := d.(*posix.Rules); ok && q.Item.Beneath == nil {
			r.By = "posix-owner"
		}
		r.Chain = k.Chain(q.Token, b.Who)
	case verdict.ByAbsence:
		r.By = "absent"
	case verdict.ByReach:
		r.By = "reach"
	case verdict.ByNaming:
		r.By = "naming"
	case verdict.ByMark:
		r.By = "mark"
		if x, ok := d.(*posix.Rules); ok {
			if r.Entry = x.Marks.Taking(f.Right, x.Folder).String(); r.Entry == "" {
				r.By = "never-runs"
			}
		}
	case verdict.ByLabel:
		r.By = "label"
	case verdict.ByRunning:
		r.By = "running"
	case verdict.ByAdmin:
		r.By = "administrator"
	case verdict.ByPrivilege:
		r = Privileged(b.Privilege)
		r.Chain = k.Chain(q.Token, b.Who)
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

// noAccount is why another machine's own account gets nothing: Entry is the machine.
func (k *Asker) noAccount(q *verdict.Question) Reason {
	r := Reason{By: "no-account"}
	user := q.Token.User()
	if q.Self != nil {
		user = q.Self.User()
	}
	if s, ok := k.T.MachineOf(user); ok {
		r.Entry = s.Name
	}
	return r
}

func (k *Asker) ShareReason(q *verdict.Question, sh *estate.Share, b verdict.Because, granted bool) Reason {
	if q.Nobody() {
		return k.noAccount(q)
	}
	r := Reason{Granted: granted, SetOn: "share " + sh.Address()}
	switch b.Source {
	case verdict.ByEntry:
		e := sh.Descriptor.Rules.Entries[b.Entry]
		r.By, r.Entry, r.Deny = "entry", ShareEntry(k.Lang, e), e.Kind.Refuses()
		r.Chain = k.Chain(q.Token, b.Who)
	case verdict.ByOwner:
		r.By = "owner"
		r.Chain = k.Chain(q.Token, b.Who)
	case verdict.ByReadOnly:
		r.By = "read-only"
		switch d, _ := q.Connect(); d.Why {
		case verdict.NotWriting:
			r.By = "no-writing"
		case verdict.ReadListed:
			return *k.ConnectionReason(q, sh, d)
		}
	case verdict.ByConnection:
		r.By = "connection"
		if d, _ := q.Connect(); d.Why == verdict.Barred || d.Why == verdict.NotListed || d.Why == verdict.Nowhere {
			return *k.ConnectionReason(q, sh, d)
		}
	case verdict.ByAbsence:
		r.By = "absent"
	case verdict.ByTaking:
		r.By = "taking"
	case verdict.ByPrivilege:
		r = Privileged(b.Privilege)
		self := q.Token
		if q.Self != nil {
			self = q.Self
		}
		r.Chain = k.Chain(self, b.Who)
	default:
		r.By = "nothing"
	}
	return r
}

// Privileged is the reason of what a privilege gives.
func Privileged(p verdict.Privilege) Reason {
	return Reason{Granted: true, By: "privilege", Entry: string(p)}
}

func (k *Asker) Chain(tok *account.Token, id account.ID) (out []string) {
	if id.IsZero() { // whoever asks
		id = tok.User()
	}
	links := tok.Chain(id)
	if n := len(links); n > 1 && k.T.AccountOf(id) == links[n-2].ID { // the same by its number
		links = links[:n-1]
	}
	for _, l := range links {
		out = append(out, k.T.Name(l.ID))
	}
	return out
}

// ShareEntry writes an entry of a share, which has no scope.
func ShareEntry(lang rule.Language, e rule.Entry) string { return lang.Write(e, false) }
