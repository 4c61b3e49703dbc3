package cli

import (
	"bufio"
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"tarnwold/core/account"
	"tarnwold/core/change"
	"tarnwold/core/impact"
	"tarnwold/core/rule"
	"tarnwold/internal/estate"
	"tarnwold/internal/report"
)

// proposal is what one command would alter, worked out and not kept.
type proposal struct {
	forest  *estate.Forest
	places  []estate.Place // those the command names
	nodes   []int          // beside places
	shares  []shareEdit
	summary string             // for the journal
	nothing string             // said where nothing changes
	renews  bool               // what is stale below is mended too
	lines   []string           // what else is done, in words
	also    func(*estate.Tx)   // what else is kept
	was     *account.Directory // who was in which group, where that changes
}

type shareEdit struct {
	server        estate.Server
	share         estate.Share
	before, after *rule.Descriptor
}

// keeping are the flags of every command that changes rules.
type keeping struct {
	dryRun, yes, force bool
	save               string
}

func (k *keeping) flags(c *cobra.Command) {
	k.plainFlags(c)
	c.Flags().StringVar(&k.save, "save", "", "write the change set to this `file` instead, for: tarnwold apply")
}

// plainFlags are those of a command whose change can't be saved for later.
func (k *keeping) plainFlags(c *cobra.Command) {
	c.Flags().BoolVar(&k.dryRun, "dry-run", false, "show what would change and keep nothing")
	c.Flags().BoolVar(&k.yes, "yes", false, "keep the change without asking")
	c.Flags().BoolVar(&k.force, "force", false, "keep it although a guard warns; the journal says so")
}

// propose works a change of rules out, shows it with its impact, asks where
// someone is there to be asked, and keeps it whole or not at all.
func (a *app) propose(ctx context.Context, k keeping, build func(*estate.Tx) (*proposal, error)) error {
	return a.keepIf(ctx, k, func(t *estate.Tx, _ *estate.Meta) (string, error) {
		p, err := build(t)
		if err != nil {
			return "", err
		}
		if !p.changes() {
			a.say("Nothing to do: %s.", p.nothing)
			return "", nil
		}
		rows, routes, err := impactOf(t, p)
		if err != nil {
			return "", err
		}
		if !a.quiet {
			if err := a.preview(t, p, rows, routes); err != nil {
				return "", err
			}
		}
		if err := a.heed(t, p, k, rows, routes); err != nil {
			return "", err
		}
		if k.save != "" {
			return "", a.save(t, p, k.save)
		}
		if k.yes && !k.dryRun || a.quiet { // else it is only shown
			p.keep(t)
		}
		return p.summary, t.Err()
	})
}

// keepIf does work in one transaction that is kept if the flags or the person
// asked say so. Where it asks, work is done twice: to show it, and to keep it
// if nothing came in between.
func (a *app) keepIf(ctx context.Context, k keeping, work func(*estate.Tx, *estate.Meta) (string, error)) error {
	if !k.dryRun && !k.yes && !a.asks && k.save == "" {
		return misused("nobody is here to be asked: add --yes to keep the change, or --dry-run to look at it")
	}
	e, err := estate.Open(ctx, a.estatePath)
	if err != nil {
		return err
	}
	defer e.Close()
	m := a.meta()
	keep := k.yes && !k.dryRun && k.save == ""
	var head int64
	done := ""
	run := func(t *estate.Tx) (string, error) {
		head = t.Head() - 1 // this change has the last number
		var err error
		done, err = work(t, &m)
		return done, err
	}
	id, err := e.Change(ctx, m, keep, run)
	if err != nil || done == "" {
		return err
	}
	if k.dryRun {
		a.say("Nothing was kept: this was a dry run.")
		return nil
	}
	if !keep {
		fmt.Fprint(a.err, "Keep this change? [y/N] ")
		answer, _ := bufio.NewReader(a.in).ReadString('\n')
		if answer = strings.ToLower(strings.TrimSpace(answer)); answer != "y" && answer != "yes" {
			a.say("Nothing was kept.")
			return errNo
		}
		m.Seen, m.Head = true, head
		a.quiet = true
		if id, err = e.Change(ctx, m, true, run); err != nil {
			return err
		}
	}
	a.say("Kept as change %d.", id)
	return nil
}

func (p *proposal) changes() bool {
	for _, s := range p.shares {
		if !s.before.Equal(s.after) {
			return true
		}
	}
	nodes, _ := p.forest.Changed()
	return nodes > 0 || p.also != nil
}

func (p *proposal) keep(t *estate.Tx) {
	t.Keep(p.forest)
	for i, place := range p.places {
		if n := &p.forest.Nodes[p.nodes[i]]; n.Changed() {
			t.PruneDeadlines(place.Item, n.After)
		}
	}
	if p.also != nil {
		p.also(t)
	}
	for _, s := range p.shares {
		t.SetShare(s.share, s.after)
	}
}

// preview prints what a proposal changes: the entries of the items and shares
// it names, how far that reaches, and its impact.
func (a *app) preview(t *estate.Tx, p *proposal, rows []*shiftRow, routes []impact.Route) error {
	out := a.printer()
	if out.Format == report.JSON {
		return out.Value(struct {
			Change string      `json:"change"`
			Impact []*shiftRow `json:"impact"`
		}{p.summary, append([]*shiftRow{}, rows...)})
	}
	lang := language(t)
	g := report.Grid{Heads: []string{"where", "", "what"}, Wrap: map[string]int{"what": 64, "where": 70}}
	for _, s := range p.shares {
		g.Rows = append(g.Rows, entryChanges("share "+s.share.Address(s.server), &s.before.Rules, &s.after.Rules, func(e rule.Entry) []string {
			return []string{shareEntry(lang, e)}
		})...)
	}
	const most = 24
	named := map[int]bool{}
	shownItems, left := int64(0), int64(0)
	row := func(n int, where string, folder bool) {
		node := &p.forest.Nodes[n]
		if len(g.Rows) < most {
			g.Rows = append(g.Rows, descriptorChanges(t, lang, where, node.Before, node.After, folder)...)
		}
	}
	for i, place := range p.places {
		named[p.nodes[i]] = true
		if n := &p.forest.Nodes[p.nodes[i]]; n.Changed() {
			shownItems += n.Items
			row(p.nodes[i], alike(place.String(), n.Items), place.Folder)
		}
	}
	for i := range p.forest.Nodes {
		if n := &p.forest.Nodes[i]; p.renews && n.Changed() && !named[i] {
			shownItems += n.Items
			if len(g.Rows) >= most {
				left += n.Items
				continue
			}
			row(i, alike(placeOf(t, p, i), n.Items), n.Folder)
		}
	}
	if err := out.Grid(g); err != nil {
		return err
	}
	if left > 0 {
		out.Line("and %s more", report.Count(left, "item"))
	}
	for _, l := range p.lines {
		out.Line("%s", l)
	}
	if _, items := p.forest.Changed(); items > shownItems {
		out.Line("Handed down to %s below.", report.Count(items-shownItems, "item"))
	}
	if nodes, _ := p.forest.Changed(); nodes > 0 || len(p.shares) > 0 {
		if err := a.printImpact(rows); err != nil {
			return err
		}
		a.unmoved(t, p, rows, routes)
	}
	out.Line("")
	return nil
}

// alike names a place and how many others are just as it is.
func alike(where string, items int64) string {
	if items > 1 {
		where += fmt.Sprintf(" and %d like it", items-1)
	}
	return where
}

// entryChanges lists the entries that go and come in rules.
func entryChanges(where string, before, after *rule.Rules, write func(rule.Entry) []string) (rows [][]string) {
	row := func(sign string, e rule.Entry) {
		rows = append(rows, append([]string{where, sign}, write(e)...))
		where = ""
	}
	for _, e := range before.Entries {
		if !slices.Contains(after.Entries, e) {
			row(report.Bad("goes"), e)
		}
	}
	for _, e := range after.Entries {
		if !slices.Contains(before.Entries, e) {
			row(report.Good("comes"), e)
		}
	}
	return rows
}

// onItems makes a proposal that edits the places named.
func onItems(t *estate.Tx, places []estate.Place, edit func(place estate.Place) change.Edit) (*proposal, error) {
	p, err := over(t, places)
	if err != nil {
		return nil, err
	}
	for i, n := range p.nodes {
		p.forest.Edits[n] = edit(p.places[i])
	}
	return p, p.forest.Work()
}

// over makes a proposal on places and all below them that edits nothing yet.
func over(t *estate.Tx, places []estate.Place) (*proposal, error) {
	p := &proposal{}
	for _, place := range places {
		t.Isolate(place.Item)
	}
	var strands []int64
	for _, place := range places { // isolating one may have moved another
		now := t.Place(place.Item)
		now.Share = place.Share
		p.places = append(p.places, now)
		strands = append(strands, now.Strand)
	}
	p.forest = t.Below(strands...)
	for _, s := range strands {
		p.nodes = append(p.nodes, p.forest.Node(s))
	}
	return p, t.Err()
}

// everywhere makes a proposal on all there is that edits nothing: what a
// change of memberships is seen on.
func everywhere(t *estate.Tx, was *account.Directory) (*proposal, error) {
	p := &proposal{was: was}
	var strands []int64
	for _, s := range t.Servers() {
		for _, top := range t.Tops(s) {
			place, err := t.At(s, top)
			if err != nil {
				return nil, err
			}
			if len(place.Trail) > 1 {
				continue // in another tree
			}
			p.places, strands = append(p.places, place), append(strands, place.Strand)
		}
	}
	p.forest = t.Below(strands...)
	for _, s := range strands {
		p.nodes = append(p.nodes, p.forest.Node(s))
	}
	return p, t.Err()
}

// onShares makes a proposal that edits the rules of the shares named.
func onShares(t *estate.Tx, where []string, edit func(*rule.Descriptor) (*rule.Descriptor, error)) (*proposal, error) {
	p := &proposal{}
	for _, w := range where {
		at, err := shareAddress(w)
		if err != nil {
			return nil, err
		}
		s, err := t.Server(at.Server)
		if err != nil {
			return nil, err
		}
		sh, err := t.Share(s, at.Share)
		if err != nil {
			return nil, err
		}
		after, err := edit(sh.Descriptor)
		if err != nil {
			return nil, err
		}
		p.shares = append(p.shares, shareEdit{s, sh, sh.Descriptor, after})
		if place, err := t.At(s, sh.Folder); err == nil { // what it stands over, for the impact
			p.places = append(p.places, place)
		}
	}
	var strands []int64
	for _, place := range p.places {
		strands = append(strands, place.Strand)
	}
	p.forest = t.Below(strands...)
	for _, s := range strands {
		p.nodes = append(p.nodes, p.forest.Node(s))
	}
	return p, p.forest.Work()
}

// day checks a date given as the last day of something; empty is none.
func day(s string) error {
	if s == "" {
		return nil
	}
	if _, err := time.Parse(time.DateOnly, s); err != nil {
		return misused("%q is no day of the form 2027-03-31", s)
	}
	return nil
}
