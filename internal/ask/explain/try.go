package explain

import (
	"tarnwold/core/account"
	"tarnwold/core/place"
	"tarnwold/core/posix"
	"tarnwold/core/right"
	"tarnwold/core/rule"
	"tarnwold/core/verdict"
	"tarnwold/internal/ask"
	"tarnwold/internal/estate"
)

// Tried is what comes of one act of one user by one route.
type Tried struct {
	User    ask.Account    `json:"user"`
	Act     string         `json:"act"`
	Where   string         `json:"where"`
	To      string         `json:"to,omitempty"`
	Kind    string         `json:"kind"` // folder or file: what is acted on, or made
	Route   string         `json:"route"`
	Allowed bool           `json:"allowed"`
	Door    ask.Connection `json:"connection"`
	// NotCounted is what the server's configuration has of the share that changes an
	// answer and isn't counted in this one.
	NotCounted []string `json:"not-counted,omitempty"`
	// AsSpecified: the server is taken to do as the standards say, and none like it was
	// measured.
	AsSpecified bool     `json:"as-specified,omitempty"`
	Needs       []Needed `json:"needs"`
	Mend        *Mend    `json:"first-to-change,omitempty"`
	Error       string   `json:"error,omitempty"` // why it can't be answered, among many
}

// Needed is one right, or other thing, that an act needs in one place.
type Needed struct {
	// On is item, folder (it is in, or is to be made in), target (the folder
	// it goes to), replaced (what is there and goes), share, connection (that isn't read-only) or owner (an
	// administrator, or who owns it already).
	On     string      `json:"on"`
	Where  string      `json:"where"`
	Right  string      `json:"right,omitempty"`
	Held   bool        `json:"held"`
	Reason *ask.Reason `json:"because,omitempty"` // of a right
	Share  bool        `json:"by-share,omitempty"`

	entry *rule.Entry
}

// Mend is the first thing that would have to change for an act to be allowed.
type Mend struct {
	// Do is allow (an entry has to allow Right to Who on Where), take-away
	// (Entry has to go from Where), share-allows (the share's rules have to),
	// share-switch (Where is switched to read-only), configuration (of the
	// server, of share Where: Entry would have to go from a list, or where
	// there is none Who come onto it), administrator, privilege (Who would have to have Right); of a POSIX tree sticky (Who
	// would have to own the item or the folder Where), owners-alone, root-alone,
	// never-runs (some class of Where would need execute).
	Do    string `json:"do"`
	Who   string `json:"account,omitempty"`
	Right string `json:"right,omitempty"`
	Entry string `json:"entry,omitempty"`
	Where string `json:"where"`
}

var ons = [...]string{verdict.OnItem: "item", verdict.OnFolder: "folder", verdict.OnTarget: "target", verdict.OnThere: "replaced", verdict.OnKernel: "kernel", verdict.OnNames: "names",
	verdict.OnShare: "share", verdict.OnConnection: "connection", verdict.OnMark: "mark", verdict.OnOwner: "owner"}

// Try tells whether a user can do an act, and what of it is missing.
func Try(k *ask.Asker, who, act, where, to string, brief bool) (*Tried, error) {
	user, err := k.T.User(who)
	if err != nil {
		return nil, err
	}
	a, ok := verdict.ActNamed(act)
	if !ok {
		return nil, &estate.NotFound{What: "act", Name: act, Near: estate.Nearest(act, ask.ActNames())}
	}
	s, err := findOperands(k, a, where, to)
	if err != nil {
		return nil, err
	}
	return TryOn(k, user, s, brief), k.T.Err()
}

// CanMake tells whether a user can make something in a folder, by the way in
// the folder was asked for.
func CanMake(k *ask.Asker, user account.Account, in estate.Place, name string, folder bool) *Tried {
	s := &operands{folder: in, hasFolder: true, share: in.Share, folderKind: folder, where: within(in, name)}
	s.act, _ = verdict.ActNamed("create")
	if folder {
		s.act, _ = verdict.ActNamed("make-folder")
	}
	return TryOn(k, user, s, false)
}

// TryAt tries an act that touches one item alone, at the server itself.
func TryAt(k *ask.Asker, user account.Account, act *verdict.Act, at estate.Place) *Tried {
	at.Share = nil
	s := &operands{act: act, item: &at, folderKind: at.Folder, where: at.String()}
	return TryOn(k, user, s, false)
}

// CanMakeUnder is CanMake in a folder that is itself being made below one that
// is there, with the rules it gets.
func CanMakeUnder(k *ask.Asker, user account.Account, in estate.Place, where string, rules rule.Any, folder bool) *Tried {
	q := k.Adding(user.ID, in, in.Share)
	q.Item = k.Read(rules, q.Traits.AddReading())
	add := verdict.AddRight(folder)
	out := &Tried{User: k.Account(user.ID), Act: "create", Where: where, Kind: ask.Kind(folder), Allowed: verdict.Granted(q).Has(add)}
	out.Needs = []Needed{{On: "folder", Where: place.Dir(where), Right: add.Names(true)[0], Held: out.Allowed}}
	return out
}

// CanMove tells whether a user can move or rename an item into a folder.
func CanMove(k *ask.Asker, user account.Account, p, in estate.Place, name string) *Tried {
	s := &operands{item: &p, share: p.Share, folderKind: p.Folder, where: p.Via(), to: within(in, name)}
	if p.Share != nil && (in.Share == nil || in.Share.ID != p.Share.ID) { // two ways in: it is done at the server
		s.share = nil
	}
	if place.Dir(p.Path) == in.Path {
		s.act, _ = verdict.ActNamed("rename")
		s.folder, s.hasFolder = in, true
	} else {
		s.act, _ = verdict.ActNamed("move")
		s.target = &in
	}
	return TryOn(k, user, s, false)
}

// CanRead tells whether a user can read a file, or list a folder.
func CanRead(k *ask.Asker, user account.Account, p estate.Place) *Tried {
	s := &operands{item: &p, share: p.Share, folderKind: p.Folder, where: p.Via()}
	s.act, _ = verdict.ActNamed("read")
	if p.Folder {
		s.act, _ = verdict.ActNamed("list")
	}
	return TryOn(k, user, s, false)
}

// MakerOf is a user as somebody who makes items on a server.
func MakerOf(k *ask.Asker, user account.Account, s estate.Server, sh *estate.Share) verdict.Maker {
	connects := user.ID
	if l := k.ListsOf(sh); l != nil && !l.As.IsZero() {
		if as, ok := k.T.Account(l.As); ok {
			user = as
		} else if n, uid, ok := l.As.POSIX(); ok && uid {
			user = account.Account{Kind: account.User, ID: l.As, POSIX: int64(n), Primary: l.Group}
		}
	}
	m := verdict.Maker{Owner: user.ID.Named(), Primary: user.Primary.Named()}
	if d, _, ok := user.ID.Domain(); ok {
		m.DomainUsers = d.Child(account.DomainUsersRID)
	}
	if m.PosixGroup = user.Primary.Named(); m.PosixGroup.IsZero() && user.POSIX != account.NoPOSIX {
		m.PosixGroup = account.GID(uint32(user.POSIX)) // their private group
	}
	if user.POSIX != account.NoPOSIX {
		m.UID, m.GID = account.UID(uint32(user.POSIX)), account.GID(uint32(user.POSIX))
	} else if n, uid, ok := user.ID.POSIX(); ok && uid {
		m.UID, m.GID = user.ID, account.GID(n)
	}
	if g, ok := k.T.Account(user.Primary); ok && g.POSIX != account.NoPOSIX {
		m.GID = account.GID(uint32(g.POSIX))
	} else if _, uid, ok := user.Primary.POSIX(); ok && !uid {
		m.GID = user.Primary
	}
	tok := k.Token(connects, &s, sh == nil)
	bosses := k.Administrators(&s)
	if l := k.ListsOf(sh); l != nil {
		if l.Replaces {
			bosses = l.Administrators
		}
		switch { // what is made is the group's
		case !l.As.IsZero() && l.Group.IsZero():
			m.DomainUsers = account.ID{}
		case !l.Group.IsZero():
			m.Primary, m.PosixGroup, m.DomainUsers = l.Group, l.Group, account.ID{}
		case !l.MembersGroup.IsZero() && tok.Has(l.MembersGroup):
			m.Primary, m.PosixGroup, m.DomainUsers = l.MembersGroup, l.MembersGroup, account.ID{}
		}
	}
	m.Builtin = tok.Has(account.MustID("S-1-5-32-544"))
	for _, id := range bosses {
		m.Administrator = m.Administrator || tok.Has(id)
	}
	return m
}

// asTrial puts together what core is asked of an act.
func asTrial(k *ask.Asker, user account.Account, s *operands) verdict.Trial {
	t := verdict.Trial{IsFolder: s.folderKind, To: s.owner}
	if s.item != nil {
		t.Item = k.Question(user.ID, *s.item, s.share)
	}
	if s.hasFolder {
		t.Folder = k.Adding(user.ID, s.folder, s.share)
	}
	if s.target != nil {
		t.Target = k.Adding(user.ID, *s.target, s.share)
	}
	if s.there != nil {
		t.There = k.Question(user.ID, *s.there, s.share)
	}
	if s.item != nil {
		_, t.Posix = k.T.Of(s.item.Strand).(*posix.Rules)
		t.Kernel = k.Kernel(t.Item, k.T.Of(s.item.Strand), k.Above(*s.item))
		if t.Kernel != nil && t.Target != nil {
			t.Names = k.Shown(t.Target, k.T.Of(s.target.Strand))
		} else if t.Kernel != nil && t.Folder != nil {
			t.Names = k.Shown(t.Folder, k.T.Of(s.folder.Strand))
		}
	}
	return t
}

// TryOn is Try where everything is found.
func TryOn(k *ask.Asker, user account.Account, s *operands, brief bool) *Tried {
	if s.item != nil {
		defer k.T.NumbersOf(s.item.Server)()
	} else if s.hasFolder {
		defer k.T.NumbersOf(s.folder.Server)()
	}
	t := asTrial(k, user, s)
	got := verdict.Try(s.act, &t)
	out := &Tried{User: k.Account(user.ID), Act: s.act.Name, Where: s.where, To: s.to, Kind: ask.Kind(s.folderKind), Route: "local", Allowed: got.Allowed, Needs: []Needed{}}
	if s.share != nil {
		out.Route = s.share.Address()
	}
	d, _ := base(&t).Connect()
	out.Door, out.NotCounted = ask.ConnectionOf(d), ask.NotCounted(s.share)
	if s.item != nil {
		out.NotCounted = k.NotCountedOn(*s.item, s.share)
	}
	out.AsSpecified = base(&t).Traits.AsSpecified
	for _, c := range got.Checks[:got.N] {
		if brief && c.OK == !got.Allowed { // the first that decides is enough
			continue
		}
		out.Needs = append(out.Needs, needed(k, c, s, &t, d)...)
		if brief {
			break
		}
	}
	if !got.Allowed {
		for i := range out.Needs {
			if !out.Needs[i].Held {
				out.Mend = mend(k, &out.Needs[i], user, s, &t, d)
				break
			}
		}
	}
	return out
}

// needed tells of one check, right by right.
func needed(k *ask.Asker, c verdict.Check, s *operands, t *verdict.Trial, d verdict.Connection) (out []Needed) {
	at, q, adds := s.item, t.Item, false
	switch c.On {
	case verdict.OnFolder:
		at, q, adds = &s.folder, t.Folder, true
	case verdict.OnTarget:
		at, q, adds = s.target, t.Target, true
	case verdict.OnThere:
		at, q = s.there, t.There
	case verdict.OnKernel:
		q = t.Kernel
	case verdict.OnNames:
		if q, at = t.Names, s.target; at == nil {
			at = &s.folder
		}
	case verdict.OnMark:
		r := &ask.Reason{Granted: c.OK, By: "mark"}
		if x, ok := k.T.Of(at.Strand).(*posix.Rules); ok {
			r.Entry = x.Marks.Taking(right.Delete, x.Folder).String()
		}
		return []Needed{{On: ons[c.On], Where: at.Via(), Held: c.OK, Reason: r}}
	case verdict.OnConnection, verdict.OnShare, verdict.OnOwner:
		where := "the server itself"
		if s.share != nil {
			where = "share " + s.share.Address()
		}
		if c.On == verdict.OnOwner {
			return []Needed{{On: ons[c.On], Where: s.where, Held: c.OK}}
		}
		if c.On == verdict.OnConnection || s.share == nil {
			n := Needed{On: ons[c.On], Where: where, Held: c.OK, Share: true}
			if b := base(t); b.Nobody() {
				n.Reason = k.ConnectionReason(b, s.share, d)
			} else if s.share != nil && !c.OK {
				n.Reason = &ask.Reason{By: doorBy(d), SetOn: where}
				if r := k.ConnectionReason(base(t), s.share, d); r != nil && r.By == "configuration" {
					n.Reason = r
				}
			}
			return []Needed{n}
		}
	}
	if q == nil { // the share of an act that makes something
		at, q = &s.folder, t.Folder
	}
	q = c.Past(q)
	v := verdict.Decide(q)
	desc := k.T.Of(at.Strand)
	above := k.T.Above(*at)
	for _, f := range v.Findings {
		if f.Right&c.Rights == 0 {
			continue
		}
		n := Needed{On: ons[c.On], Where: at.Via(), Right: f.Right.Names(at.Folder && (c.On != verdict.OnShare || s.folderKind))[0], Held: f.Granted}
		byShare := s.share != nil && !c.PastShare && (c.On == verdict.OnShare || d.Refused || f.FileOK && !f.ShareOK)
		if byShare {
			n.Share = true
			r := k.ShareReason(q, s.share, f.Share, f.ShareOK)
			n.Reason = &r
			if f.Share.Source == verdict.ByEntry {
				n.entry = &s.share.Descriptor.Rules.Entries[f.Share.Entry]
			}
			if c.On == verdict.OnShare {
				n.Where, n.Held = "share "+s.share.Address(), f.ShareOK
			}
		} else {
			if _, ok := desc.(*posix.Rules); adds && !ok && f.File.Source == verdict.ByTraverse {
				f.File.Folder-- // the folder itself stands first
			}
			r := k.FileReason(q, *at, desc, above, f, s.share)
			nearest(k, &r, q, k.AsEntries(desc), f.Right, at.Folder)
			n.Reason = &r
		}
		out = append(out, n)
	}
	return out
}

// base is the question that stands for the connection.
func base(t *verdict.Trial) *verdict.Question {
	if t.Item == nil {
		return t.Folder
	}
	return t.Item
}

func doorBy(d verdict.Connection) string {
	switch {
	case d.Refused:
		return "connection"
	case d.Why == verdict.NotWriting:
		return "no-writing"
	}
	return "read-only"
}

// mend says what would have to change first.
func mend(k *ask.Asker, n *Needed, user account.Account, s *operands, t *verdict.Trial, d verdict.Connection) *Mend {
	m := &Mend{Who: k.T.Name(user.ID), Right: n.Right, Where: n.Where}
	switch {
	case n.Reason != nil && n.Reason.By == "mark" && !n.Held:
		return &Mend{Do: "mark", Where: n.Where, Entry: n.Reason.Entry}
	case n.On == "owner":
		if base(t).Traits.AsSpecified {
			return &Mend{Do: "privilege", Who: m.Who, Right: string(verdict.Restore), Where: "server " + s.server().Name}
		}
		return &Mend{Do: "administrator", Who: m.Who, Where: "server " + s.server().Name}
	case s.share != nil && (d.Refused || n.On == "connection" || n.Share):
		m.Where = "share " + s.share.Address()
		switch {
		case d.Why == verdict.Nowhere || d.Why == verdict.Barred || d.Why == verdict.NotListed || d.Why == verdict.ReadListed && (n.On == "connection" || n.Reason.By == "configuration"):
			m := &Mend{Do: "configuration", Who: m.Who, Where: m.Where}
			if r := k.ConnectionReason(base(t), s.share, d); r != nil {
				m.Entry = r.Entry
			}
			return m
		case d.Why == verdict.Switched && (n.On == "connection" || n.Reason.By == "read-only"), d.Why == verdict.NoReading:
			return &Mend{Do: "share-switch", Where: m.Where}
		case d.Why == verdict.NotWriting || d.Why == verdict.NoData || d.Why == verdict.RulesGone:
			m.Right = "read-data,write-data"
			if d.Why == verdict.NotWriting {
				m.Right = "write-data"
			}
		}
		m.Do = "share-allows"
		if n.Reason != nil && n.Reason.Deny {
			m.Do, m.Entry = "take-away", n.Reason.Entry
		}
		return m
	case n.Reason != nil && n.Reason.Deny:
		return &Mend{Do: "take-away", Entry: n.Reason.Entry, Where: first(n.Reason.SetOn, n.Where)}
	case n.Reason != nil && n.Reason.By == "traverse":
		m.Right, m.Where = "execute", n.Reason.SetOn
	case n.Reason != nil && n.Reason.By == "sticky":
		return &Mend{Do: "sticky", Who: m.Who, Where: n.Reason.SetOn}
	case n.Reason != nil && n.Reason.By == "folder":
		m.Right, m.Where = "add-file", n.Reason.SetOn
	case n.Reason != nil && (n.Reason.By == "owners-alone" || n.Reason.By == "root-alone" || n.Reason.By == "never-runs"):
		return &Mend{Do: n.Reason.By, Who: m.Who, Where: n.Where}
	}
	m.Do = "allow"
	return m
}

func first(a, b string) string {
	if a != "" {
		return a
	}
	return b
}
