package cli

import (
	"bufio"
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"tarnwold/core/change"
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
	summary string // for the journal
	nothing string // said where nothing changes
}

type shareEdit struct {
	server        estate.Server
	share         estate.Share
	before, after *rule.Descriptor
}

// keeping are the flags of every command that changes rules.
type keeping struct{ dryRun, yes, force bool }

func (k *keeping) flags(c *cobra.Command) {
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
		if !a.quiet {
			if err := a.preview(t, p); err != nil {
				return "", err
			}
		}
		if !p.changes() {
			return "", nil
		}
		p.keep(t)
		return p.summary, t.Err()
	})
}

// keepIf does work in one transaction that is kept if the flags or the person
// asked say so. Where it asks, work is done twice: to show it, and to keep it
// if nothing came in between.
func (a *app) keepIf(ctx context.Context, k keeping, work func(*estate.Tx, *estate.Meta) (string, error)) error {
	if !k.dryRun && !k.yes && !a.asks {
		return misused("nobody is here to be asked: add --yes to keep the change, or --dry-run to look at it")
	}
	e, err := estate.Open(ctx, a.estatePath)
	if err != nil {
		return err
	}
	defer e.Close()
	m := a.meta()
	keep := k.yes && !k.dryRun
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
	return nodes > 0
}

func (p *proposal) keep(t *estate.Tx) {
	t.Keep(p.forest)
	for _, s := range p.shares {
		t.SetShare(s.share, s.after)
	}
}

// preview prints what a proposal changes: the entries of the items and shares
// it names, and how far that reaches.
func (a *app) preview(t *estate.Tx, p *proposal) error {
	if !p.changes() {
		a.say("Nothing to do: %s.", p.nothing)
		return nil
	}
	lang := language(t)
	g := report.Grid{Heads: []string{"where", "", "entry", "set on"}, Wrap: map[string]int{"entry": 64}}
	for _, s := range p.shares {
		g.Rows = append(g.Rows, entryChanges("share "+s.share.Address(s.server), &s.before.Rules, &s.after.Rules, func(e rule.Entry) []string {
			return []string{shareEntry(lang, e), "the share"}
		})...)
	}
	for i, place := range p.places {
		n := p.forest.Nodes[p.nodes[i]]
		if !n.Changed() {
			continue
		}
		above := t.Above(place)
		g.Rows = append(g.Rows, entryChanges(place.String(), &n.Before.Rules, &n.After.Rules, func(e rule.Entry) []string {
			from, _ := origin(place, above, e)
			return []string{lang.Write(e, place.Folder), from}
		})...)
	}
	if err := a.printer().Grid(g); err != nil {
		return err
	}
	_, items := p.forest.Changed()
	if named := int64(len(p.places)); items > named && len(p.shares) == 0 {
		a.say("Handed down to %s below.", report.Count(items-named, "item"))
	}
	rows, routes, err := impactOf(t, p)
	if err != nil {
		return err
	}
	if err := a.printImpact(rows); err != nil {
		return err
	}
	a.unmoved(t, p, rows, routes)
	a.printer().Line("")
	return nil
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

// onItems makes a proposal that edits the items named.
func onItems(t *estate.Tx, where []string, edit func(place estate.Place) change.Edit) (*proposal, error) {
	p := &proposal{}
	seen := map[int64]bool{}
	for _, w := range where {
		place, err := t.Find(w)
		if err != nil {
			return nil, err
		}
		if seen[place.Item] {
			continue
		}
		seen[place.Item] = true
		t.Isolate(place.Item)
		p.places = append(p.places, place)
	}
	var strands []int64
	for i, place := range p.places { // isolating one may have moved another
		p.places[i] = t.Place(place.Item)
		p.places[i].Share = place.Share
		strands = append(strands, p.places[i].Strand)
	}
	p.forest = t.Below(strands...)
	for i, s := range strands {
		n := p.forest.Node(s)
		p.nodes = append(p.nodes, n)
		p.forest.Edits[n] = edit(p.places[i])
	}
	if t.Err() != nil {
		return nil, t.Err()
	}
	return p, p.forest.Work()
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
