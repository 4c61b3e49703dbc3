package live

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"tarnwold/core/account"
	"tarnwold/core/place"
	"tarnwold/core/rule"
	"tarnwold/core/verdict"
	"tarnwold/internal/estate"
	"tarnwold/internal/format"
	"tarnwold/internal/plan/intake"
	"tarnwold/internal/plan/people"
	"tarnwold/internal/server"
)

// Scan says what is to be read of a server.
type Scan struct {
	Server  estate.Server
	Only    []string // shares; none: all
	Reading server.Reading
	Spool   string     // the file what is read is put down in; "": nowhere
	Resume  bool       // go on with what is in it
	Was     account.ID // who answered before; another is refused. Zero: nobody did
	// Step is told what is being read, how many items were, and how many
	// folders are left that are known of; nil: nobody listens.
	Step func(share string, items, left int)
	// May is asked before hours are spent on reading; nil: nobody is.
	May func(trees []*intake.ScannedTree) error
}

// Seen is what a server has.
type Seen struct {
	At       time.Time
	Shares   []server.Share
	Trees    []*intake.ScannedTree
	Accounts *people.AccountFile
	Builtin  []people.Builtin // the machine's own built-in groups; none: it tells of none
	// Privileges are who has which; one that isn't there isn't told of.
	Privileges map[verdict.Privilege][]account.ID
	Domains    []estate.Domain
	Machine    account.ID // the domain of the server's own accounts
	// OnPOSIX: the server says that it stands on a POSIX system, or with Told and without
	// it that it doesn't.
	OnPOSIX, Told bool
	Unread        []Unread
	Resumed       int // items that an earlier try had read
	Notes         []Noted

	scratch *scratch // where the trees' rows lie
	own     []server.Account
	members []server.Member
}

// Close ends what the trees rest on: they can't be read any more.
func (o *Seen) Close() { _ = o.scratch.close() }

// OtherMachine is a server that isn't the one that was read before.
type OtherMachine struct {
	Server string `json:"server"`
	Was    string `json:"was"`
	Is     string `json:"is"`
}

func (e *OtherMachine) Error() string {
	return fmt.Sprintf("%s is another machine than the one that was read before: its accounts belong to %s, and belonged to %s; nothing was read or kept", e.Server, e.Is, e.Was)
}

// Noted is how many items have something worth knowing beside their rules.
type Noted struct {
	What  server.Note `json:"what"`
	Items int         `json:"items"`
	Where string      `json:"where"` // the first of them
}

// Unread is what couldn't be read.
type Unread struct {
	Where string `json:"where"`
	Why   string `json:"why"`
}

// Stopped is a scan that was broken off, with what it had read kept.
type Stopped struct {
	Server string `json:"server"`
	Items  int    `json:"items"`
	Spool  string `json:"kept-in"`
	Err    error  `json:"-"`
}

func (e *Stopped) Error() string {
	return fmt.Sprintf("%v; %s read so far are kept in %s, and tarnwold scan %s --resume goes on from there", e.Err, format.Count(int64(e.Items), "item"), e.Spool, e.Server)
}

func (e *Stopped) Unwrap() error { return e.Err }

// Read reads a server: its shares, their folders and all below them, its
// accounts and the names of whoever its rules name. Several shares over one
// folder are read once. What it gives is closed by the caller.
func (s *Scan) Read(ctx context.Context, live server.Reader) (seen *Seen, err error) {
	out := &Seen{At: time.Now().UTC()}
	dir := ""
	if s.Spool != "" {
		dir = filepath.Dir(s.Spool)
	}
	if out.scratch, err = newScratch(dir); err != nil {
		return nil, err
	}
	defer func() {
		if err != nil {
			out.Close()
		}
	}()
	if out.Shares, err = s.shares(ctx, live); err != nil {
		return nil, err
	}
	if out.own, out.members, err = live.Accounts(ctx); err != nil {
		return nil, fmt.Errorf("the server's accounts: %w", err)
	}
	if teller, ok := live.(interface {
		Privileges(context.Context) (map[verdict.Privilege][]account.ID, error)
	}); ok {
		if out.Privileges, err = teller.Privileges(ctx); err != nil {
			return nil, fmt.Errorf("who has privileges: %w", err)
		}
	}
	if teller, ok := live.(interface {
		OnPOSIX(context.Context) (yes, told bool)
	}); ok {
		out.OnPOSIX, out.Told = teller.OnPOSIX(ctx)
	}
	for _, a := range out.own {
		if d, _, ok := a.ID.Domain(); ok {
			out.Machine = d
			break
		}
	}
	if m, ok := live.(interface{ Machine() account.ID }); ok {
		out.Machine = m.Machine()
	}
	if !s.Was.IsZero() && !out.Machine.IsZero() && s.Was != out.Machine {
		return nil, &OtherMachine{s.Server.Name, s.Was.String(), out.Machine.String()}
	}
	open, err := s.open(ctx, live, out)
	if err != nil {
		return nil, err
	}
	for _, x := range Topmost(open) {
		out.Trees = append(out.Trees, &intake.ScannedTree{Share: x.Name, Folder: x.Folder, Tree: format.NewTreeOn(out.scratch), FoldersOnly: s.Reading.FoldersOnly, Depth: s.Reading.Depth})
	}
	if s.May != nil {
		if err := s.May(out.Trees); err != nil {
			return nil, err
		}
	}
	ids := map[account.ID]bool{}
	for _, x := range server.Doors(out.Shares) {
		note(x.Rules, ids)
	}
	if err := s.trees(ctx, live, out, ids); err != nil {
		return nil, err
	}
	if err := s.accounts(ctx, live, out, ids); err != nil {
		return nil, err
	}
	return out, nil
}

func (s *Scan) shares(ctx context.Context, live server.Reader) ([]server.Share, error) {
	all, err := live.Shares(ctx)
	if err != nil || len(s.Only) == 0 {
		return all, err
	}
	var out []server.Share
	for _, w := range s.Only {
		i := slices.IndexFunc(all, func(x server.Share) bool { return strings.EqualFold(x.Name, w) })
		if i < 0 {
			var names []string
			for _, x := range all {
				names = append(names, x.Name)
			}
			return nil, &estate.NotFound{What: "share", Name: w, In: "server " + s.Server.Name, Near: estate.Nearest(w, names)}
		}
		out = append(out, all[i])
	}
	return out, nil
}

// open lists the shares that let one in. Of what is behind no other either it
// is told that it can't be read.
func (s *Scan) open(ctx context.Context, live server.Reader, out *Seen) (open []server.Share, err error) {
	var shut []server.Share
	why := map[string]error{}
	for _, x := range out.Shares {
		if _, err := live.Look(ctx, x.Name, "", false); err == nil {
			open = append(open, x)
		} else if gone(err) || ctx.Err() != nil {
			return nil, err
		} else {
			shut, why[x.Name] = append(shut, x), err
		}
	}
	for _, x := range shut {
		if !slices.ContainsFunc(open, func(o server.Share) bool { return place.Under(x.Folder, o.Folder) }) {
			out.Unread = append(out.Unread, Unread{x.Name, why[x.Name].Error()})
		}
	}
	return open, nil
}

// gone tells whether an error means that the server is no longer there.
func gone(err error) bool {
	var g interface{ Gone() bool }
	return errors.As(err, &g) && g.Gone()
}

// taking is a tree as it comes in.
type taking struct {
	x      *intake.ScannedTree
	bodies map[rule.Any]int32
	bytes  map[string]int32
	ids    map[account.ID]bool
}

func (k *taking) add(i server.Item) error {
	body, ok := k.bodies[i.Rules]
	if !ok {
		kind, raw, err := estate.Encode(i.Rules)
		if err != nil {
			return err
		}
		raw = append(raw, kind)
		if body, ok = k.bytes[string(raw)]; !ok {
			body = int32(len(k.x.Tree.Bodies))
			k.bytes[string(raw)] = body
			k.x.Tree.Bodies = append(k.x.Tree.Bodies, i.Rules)
			note(i.Rules, k.ids)
		}
		k.bodies[i.Rules] = body
	}
	f := format.Facts{Modified: seconds(i.Modified), Changed: seconds(i.Changed)}
	if !i.Folder {
		f.Size = i.Size
	}
	return k.x.Tree.Add(format.TreeRow{Path: i.Path, Folder: i.Folder, Body: body, Line: int32(k.x.Tree.Len() + 1), Facts: f})
}

// trees reads the shares' folders and all below.
func (s *Scan) trees(ctx context.Context, live server.Reader, out *Seen, ids map[account.ID]bool) (err error) {
	head := spoolHead{Server: s.Server.Name, Shares: s.Only, Reading: s.Reading, At: out.At.Format(time.RFC3339)}
	var before map[int]*standing
	if s.Resume {
		var was spoolHead
		was, before, err = standingIn(s.Spool)
		if errors.Is(err, fs.ErrNotExist) {
			return &estate.Refused{Why: "no scan of server " + s.Server.Name + " was broken off", Do: "scan it from the beginning: leave out --resume"}
		}
		if err != nil {
			return err
		}
		if !was.same(&head) {
			return &estate.Refused{Why: "the scan that was broken off was another one", Do: "give the same shares, --folders-only and --depth as then, or leave out --resume"}
		}
	}
	var down *spool
	if s.Spool != "" {
		if down, err = newSpool(s.Spool, head); err != nil {
			return err
		}
		defer func() {
			if cerr := down.close(); err == nil {
				err = cerr
			}
		}()
		if !s.Resume { // else what stands of it is written anew, and takes its place then
			if err := down.place(); err != nil {
				return err
			}
		}
	}
	total := 0
	var takes []func(server.Item) error
	for i, x := range out.Trees {
		k := &taking{x: x, bodies: map[rule.Any]int32{}, bytes: map[string]int32{}, ids: ids}
		takes = append(takes, func(item server.Item) error {
			if down != nil {
				if err := down.item(i, item); err != nil {
					return err
				}
			}
			switch {
			case item.Whole:
				if s.Step != nil {
					s.Step(x.Share, total, item.Left)
				}
				return nil
			case item.Err != nil:
				out.unread(x, item)
				return nil
			}
			for _, n := range item.Notes {
				out.noted(n, place.Join(x.Folder, item.Path))
				if n == server.Mounted { // what is in it wasn't looked at, and isn't gone
					x.Unread = append(x.Unread, item.Path)
				}
			}
			total++
			return k.add(item)
		})
	}
	hows := make([]server.Reading, len(takes))
	for i := range hows {
		hows[i] = s.Reading
	}
	if s.Resume {
		if _, err := readSpool(s.Spool, func(tree int, item server.Item) error {
			t := before[tree]
			if t == nil || tree >= len(takes) || !t.keeps(item) {
				return nil
			}
			if item.Err == nil && !item.Whole {
				out.Resumed++
				if hows[tree].From == nil {
					hows[tree].From = []string{}
				}
				if t.open(item) {
					hows[tree].From = append(hows[tree].From, item.Path)
				}
			}
			return takes[tree](item)
		}); err != nil {
			return err
		}
		if err := down.place(); err != nil {
			return err
		}
	}
	for i, x := range out.Trees {
		if hows[i].From != nil && len(hows[i].From) == 0 {
			continue // it was read to its end
		}
		said := server.Asked(ctx, "read tree", "server", s.Server.Name, "share", x.Share)
		err := live.Scan(ctx, x.Share, hows[i], takes[i])
		if said(&err); err != nil {
			if s.Spool != "" && total > 0 {
				if ferr := down.w.Flush(); ferr == nil {
					return &Stopped{s.Server.Name, total, s.Spool, plainly(err)}
				}
			}
			return err
		}
	}
	return nil
}

func (o *Seen) noted(what server.Note, where string) {
	i := slices.IndexFunc(o.Notes, func(n Noted) bool { return n.What == what })
	if i < 0 {
		o.Notes = append(o.Notes, Noted{What: what, Where: where})
		i = len(o.Notes) - 1
	}
	o.Notes[i].Items++
}

func (o *Seen) unread(x *intake.ScannedTree, item server.Item) {
	x.Unread = append(x.Unread, item.Path)
	o.Unread = append(o.Unread, Unread{strings.TrimSuffix(x.Share+"/"+item.Path, "/"), item.Err.Error()})
}

// note remembers the identifiers a descriptor names.
func note(a rule.Any, ids map[account.ID]bool) {
	d := a.Listed()
	ids[d.Owner], ids[d.Group] = true, true
	for _, e := range d.Rules.Entries {
		ids[e.Who] = true
	}
}

// accounts reads the server's own accounts, and the names of whoever else its
// rules name. Accounts no estate takes (without a name, or with an identifier
// of the standard's own) are left out.
func (s *Scan) accounts(ctx context.Context, live server.Reader, out *Seen, ids map[account.ID]bool) error {
	out.Accounts = &people.AccountFile{File: "the scan", POSIX: slices.ContainsFunc(out.own, func(a server.Account) bool { return a.Numbered })}
	own, members := out.own, out.members
	names := map[account.ID]string{}
	taken := map[string]bool{}
	domains := map[account.ID]bool{}
	add := func(x server.Account) {
		if d, _, ok := x.ID.Domain(); ok && x.Domain != "" && !domains[d] {
			domains[d] = true
			out.Domains = append(out.Domains, estate.Domain{ID: d, Name: x.Domain})
		}
		key := x.Kind.String() + ":" + estate.Key(x.Name)
		if taken[key] && x.Domain != "" { // the same name twice: the second is told by its domain
			x.Name += "@" + x.Domain
			key = x.Kind.String() + ":" + estate.Key(x.Name)
		}
		if estate.GoodName(x.Kind.String(), x.Name) != nil || estate.GoodID(x.ID) != nil || taken[key] || names[x.ID] != "" {
			return
		}
		taken[key], names[x.ID] = true, x.Kind.String()+":"+x.Name
		out.Accounts.Accounts = append(out.Accounts.Accounts, format.AccountRow{PrimaryGID: account.NoPOSIX, Account: account.Account{Kind: x.Kind, Name: x.Name, ID: x.ID, POSIX: account.NoPOSIX}})
	}
	builtin := map[account.ID]int{}
	for _, x := range own {
		_, is := x.ID.Builtin()
		switch {
		case x.Numbered:
			out.numbered(x)
		case is:
			builtin[x.ID] = len(out.Builtin)
			out.Builtin = append(out.Builtin, people.Builtin{Group: x.ID})
		default:
			add(x)
		}
	}
	for _, m := range members {
		ids[m.Member] = true
		if i, is := builtin[m.Group]; is {
			out.Builtin[i].Members = append(out.Builtin[i].Members, m.Member)
		}
	}
	var unknown []account.ID
	for id := range ids {
		if _, special := account.SpecialName(id); names[id] == "" && !special && !id.IsZero() {
			if _, _, posix := id.POSIX(); !posix || out.Accounts.POSIX && !out.hasNumber(id) {
				unknown = append(unknown, id)
			}
		}
	}
	slices.SortFunc(unknown, func(a, b account.ID) int { return strings.Compare(a.String(), b.String()) })
	if len(unknown) > 0 {
		called, err := live.Names(ctx, unknown)
		if err != nil {
			return fmt.Errorf("the names of accounts: %w", err)
		}
		for _, x := range called {
			if x.Numbered {
				out.numbered(x)
				continue
			}
			add(x)
		}
	}
	for _, m := range members {
		if names[m.Group] != "" && names[m.Member] != "" {
			out.Accounts.Members.Add(format.MemberRow{Group: names[m.Group], Member: names[m.Member]})
		}
	}
	return nil
}

// numbered takes in an account that has a number alone.
func (o *Seen) numbered(x server.Account) {
	if estate.GoodName(x.Kind.String(), x.Name) != nil {
		return
	}
	row := format.AccountRow{PrimaryGID: account.NoPOSIX, Account: account.Account{Kind: x.Kind, Name: x.Name, POSIX: int64(x.Number)}}
	if x.Kind == account.User {
		row.PrimaryGID = int64(x.First)
	}
	o.Accounts.Accounts = append(o.Accounts.Accounts, row)
	for _, g := range x.In {
		o.Accounts.Members.Add(format.MemberRow{Group: account.Group.String() + ":" + g, Member: account.User.String() + ":" + x.Name})
	}
}

// hasNumber tells whether the accounts at hand have one with a uid or gid.
func (o *Seen) hasNumber(id account.ID) bool {
	n, user, _ := id.POSIX()
	kind := account.Group
	if user {
		kind = account.User
	}
	return slices.ContainsFunc(o.Accounts.Accounts, func(r format.AccountRow) bool { return r.Kind == kind && r.POSIX == int64(n) })
}
