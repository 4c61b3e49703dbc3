package cli

import (
	"context"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"tarnwold/core/account"
	"tarnwold/core/place"
	"tarnwold/core/rule"
	"tarnwold/internal/estate"
	"tarnwold/internal/format"
	"tarnwold/internal/format/secdesc"
	"tarnwold/internal/plan"
	"tarnwold/internal/report"
	"tarnwold/internal/server"
)

func (a *app) scanCommand() *cobra.Command {
	var sign signing
	var k keeping
	c := &cobra.Command{
		Use:   "scan SERVER [SHARE…]",
		Short: "Take in what a real server has: accounts, shares, folders, files, rules",
		Long: `Take in what a real server has: its accounts and groups, its shares with their
rules, every folder and file with its descriptor, and the names of identifiers
met. Several shares over one folder are read once; links are not followed. What
can't be read is counted and listed, and left out with what is below it.

Where the estate knows people or places already, what the accounts and shares
change of anybody's access is shown and asked about, like any change. A place
that is in the estate already is left alone; tarnwold drift compares it.`,
		Example: `  tarnwold scan stagedoor
  tarnwold scan stagedoor productions --password-file ~/.stagedoor`,
		Args:              cobra.MinimumNArgs(1),
		ValidArgsFunction: a.completeServers,
		RunE: func(c *cobra.Command, args []string) error {
			ctx := c.Context()
			s, live, err := a.signOn(ctx, &sign, args[0])
			if err != nil {
				return err
			}
			defer live.Close()
			return a.scan(c, k, s, live, args[1:])
		},
	}
	sign.flags(c)
	k.plainFlags(c)
	return c
}

// tract is a folder tree that a scan takes in: one share's, or several over it.
type tract struct {
	share  string
	folder string
	tree   *format.Tree
}

// unread is what couldn't be read.
type unread struct {
	where string
	why   error
}

// mostListed is how many of those are told one by one.
const mostListed = 10

func (a *app) scan(c *cobra.Command, k keeping, s estate.Server, live server.Server, wanted []string) error {
	ctx := c.Context()
	shares, err := live.Shares(ctx)
	if err != nil {
		return err
	}
	if len(wanted) > 0 {
		for _, w := range wanted {
			if !slices.ContainsFunc(shares, func(x server.Share) bool { return strings.EqualFold(x.Name, w) }) {
				var names []string
				for _, x := range shares {
					names = append(names, x.Name)
				}
				return &estate.NotFound{What: "share", Name: w, In: "server " + s.Name, Near: estate.Nearest(w, names)}
			}
		}
		shares = slices.DeleteFunc(shares, func(x server.Share) bool {
			return !slices.ContainsFunc(wanted, func(w string) bool { return strings.EqualFold(x.Name, w) })
		})
	}
	var tracts []*tract
	for _, x := range topmost(shares) {
		tracts = append(tracts, &tract{share: x.Name, folder: x.Folder})
	}
	// What is there already is said before hours are spent on reading.
	if err := a.view(ctx, func(t *estate.Tx) error {
		for _, x := range tracts {
			if err := plan.MayLoad(t, place.Address{Server: s.Name, Path: x.folder}); err != nil {
				return err
			}
		}
		return nil
	}); err != nil {
		return err
	}
	var bad []unread
	ids := map[account.ID]bool{}
	for _, x := range tracts {
		if err := a.readTract(ctx, live, x, ids, &bad); err != nil {
			return err
		}
	}
	accounts, err := a.readAccounts(ctx, live, ids)
	if err != nil {
		return err
	}
	if len(accounts.Accounts) > 0 {
		if err := a.carry(c, k, func(d *plan.Desk, o *report.Outcome) (p *plan.Plan, err error) {
			o.Brief = true
			p, o.Loaded, err = d.LoadAccounts([]plan.AccountFile{*accounts})
			return p, err
		}); err != nil {
			return err
		}
	}
	var rows []format.ShareRow
	if err := a.view(ctx, func(t *estate.Tx) error {
		for i, x := range shares {
			if _, err := t.Share(s, x.Name); err != nil {
				rows = append(rows, format.ShareRow{Name: x.Name, Folder: x.Folder, Descriptor: x.Rules, Line: i + 1})
			}
		}
		return t.Err()
	}); err != nil {
		return err
	}
	if len(rows) > 0 {
		if err := a.carry(c, k, func(d *plan.Desk, o *report.Outcome) (*plan.Plan, error) {
			o.Brief = true
			return d.LoadShares(s.Name, "the scan", rows)
		}); err != nil {
			return err
		}
	}
	for _, x := range tracts {
		if x.tree.Len() == 0 {
			continue
		}
		if err := x.tree.Arrange(); err != nil {
			return err
		}
		if k.dryRun {
			a.printer().Line(report.S("%s", plan.TreeLoaded(x.tree, place.Address{Server: s.Name, Path: x.folder})))
			continue
		}
		if err := a.keepTree(ctx, x.tree, place.Address{Server: s.Name, Path: x.folder}, "keeping "+x.share); err != nil {
			return err
		}
	}
	p := a.printer()
	if groups := slices.ContainsFunc(accounts.Accounts, func(x format.AccountRow) bool { return x.Kind == account.Group }); groups && len(accounts.Members) == 0 {
		p.Line(report.S("The server tells no group's members; where it keeps them in a POSIX group file: tarnwold load accounts --passwd FILE --group FILE"))
	}
	if k.dryRun {
		p.Line(report.S("Nothing was kept: this was a dry run."))
	}
	for i, u := range bad {
		if i == mostListed {
			p.Line(report.S("  and %d more", len(bad)-i))
			break
		}
		p.Line(report.S("not read: %s: %s", u.where, u.why.Error()))
	}
	if len(bad) > 0 {
		return &partlyRead{len(bad)}
	}
	return p.Err()
}

// partlyRead ends a scan that left something out.
type partlyRead struct{ Items int }

func (e *partlyRead) Error() string {
	return report.Count(int64(e.Items), "item") + " could not be read and " + map[bool]string{true: "is", false: "are"}[e.Items == 1] + " left out, with what is below"
}

// readTract reads a share's folder and all below it.
func (a *app) readTract(ctx context.Context, live server.Server, x *tract, ids map[account.ID]bool, bad *[]unread) error {
	x.tree = &format.Tree{}
	bodies := map[string]int32{}
	bar := a.progress(-1, "reading "+x.share)
	defer bar.end()
	return live.Scan(ctx, x.share, func(i server.Item) error {
		if i.Err != nil {
			*bad = append(*bad, unread{strings.TrimSuffix(x.share+"/"+i.Path, "/"), i.Err})
			return nil
		}
		raw, err := secdesc.Encode(i.Rules)
		if err != nil {
			*bad = append(*bad, unread{x.share + "/" + i.Path, err})
			return nil
		}
		body, ok := bodies[string(raw)]
		if !ok {
			body = int32(len(x.tree.Bodies))
			bodies[string(raw)] = body
			x.tree.Bodies = append(x.tree.Bodies, i.Rules)
			note(i.Rules, ids)
		}
		if x.tree.Len()%256 == 0 {
			bar.set(x.tree.Len())
		}
		return x.tree.Add(format.TreeRow{Path: i.Path, Folder: i.Folder, Body: body, Line: int32(x.tree.Len() + 1)})
	})
}

// note remembers the identifiers a descriptor names.
func note(d *rule.Descriptor, ids map[account.ID]bool) {
	ids[d.Owner], ids[d.Group] = true, true
	for _, e := range d.Rules.Entries {
		ids[e.Who] = true
	}
}

// readAccounts reads the server's own accounts, and the names of whoever else
// its rules name. Accounts no estate takes (without a name, or with an
// identifier of the standard's own) are left out.
func (a *app) readAccounts(ctx context.Context, live server.Server, ids map[account.ID]bool) (*plan.AccountFile, error) {
	out := &plan.AccountFile{File: "the scan"}
	own, members, err := live.Accounts(ctx)
	if err != nil {
		return nil, err
	}
	names := map[account.ID]string{}
	taken := map[string]bool{}
	add := func(x server.Account) {
		key := x.Kind.String() + ":" + estate.Key(x.Name)
		if estate.GoodName(x.Kind.String(), x.Name) != nil || estate.GoodID(x.ID) != nil || taken[key] || names[x.ID] != "" {
			return
		}
		taken[key], names[x.ID] = true, x.Kind.String()+":"+x.Name
		out.Accounts = append(out.Accounts, format.AccountRow{PrimaryGID: account.NoPOSIX, Account: account.Account{Kind: x.Kind, Name: x.Name, ID: x.ID, POSIX: account.NoPOSIX}})
	}
	for _, x := range own {
		add(x)
	}
	var unknown []account.ID
	for id := range ids {
		if _, special := account.SpecialName(id); names[id] == "" && !special && !id.IsZero() {
			if _, _, posix := id.POSIX(); !posix {
				unknown = append(unknown, id)
			}
		}
	}
	slices.SortFunc(unknown, func(a, b account.ID) int { return strings.Compare(a.String(), b.String()) })
	if len(unknown) > 0 {
		called, err := live.Names(ctx, unknown)
		if err != nil {
			return nil, err
		}
		for _, x := range called {
			add(x)
		}
	}
	for _, m := range members {
		if names[m.Group] != "" && names[m.Member] != "" {
			out.Members = append(out.Members, format.MemberRow{Group: names[m.Group], Member: names[m.Member]})
		}
	}
	return out, nil
}
