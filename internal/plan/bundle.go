package plan

import (
	"slices"

	"fmt"
	"strings"

	"tarnwold/core/posix"
	"tarnwold/core/rule"
	"tarnwold/internal/estate"
)

// bundle gathers edits of many items and shares, several of one thing among
// them, beside what else a plan changes, so that all of it is one plan with
// one impact.
type bundle struct {
	d      *Desk
	p      *Plan
	items  []bundled[estate.Target]
	at     map[int64]int
	shares []bundled[sharePlace]
	over   map[int64]int
}

type sharePlace struct {
	server estate.Server
	share  estate.Share
}

type bundled[T any] struct {
	of    T
	edits []*itemEdit
}

func (d *Desk) bundle(p *Plan) *bundle {
	return &bundle{d: d, p: p, at: map[int64]int{}, over: map[int64]int{}}
}

// item adds an edit of an item, after those it has already.
func (b *bundle) item(x estate.Target, e *itemEdit) {
	i, ok := b.at[x.Item]
	if !ok {
		i = len(b.items)
		b.at[x.Item] = i
		b.items = append(b.items, bundled[estate.Target]{of: x})
	}
	b.items[i].edits = append(b.items[i].edits, e)
}

// share adds an edit of a share's own rules.
func (b *bundle) share(s estate.Server, sh estate.Share, e *itemEdit) {
	i, ok := b.over[sh.ID]
	if !ok {
		i = len(b.shares)
		b.over[sh.ID] = i
		b.shares = append(b.shares, bundled[sharePlace]{of: sharePlace{s, sh}})
	}
	b.shares[i].edits = append(b.shares[i].edits, e)
}

// chain makes one edit of several.
func chain(edits []*itemEdit) itemEdit {
	if len(edits) == 1 {
		return *edits[0]
	}
	days := func(e *itemEdit, before, after *rule.Descriptor, folder bool, dated estate.Dated) estate.Dated {
		if e.dates != nil {
			return e.dates(before, after, folder, dated)
		}
		return still(dated, after)
	}
	var chained estate.Dated // of the item worked out last
	return itemEdit{
		each: func(r *posix.Rules) *posix.Rules {
			for _, e := range edits {
				if e.each != nil {
					r = e.each(r)
				}
			}
			return r
		},
		hands: slices.ContainsFunc(edits, func(e *itemEdit) bool { return e.hands }),
		make: func(x, up *rule.Descriptor, folder bool, dated estate.Dated) (*rule.Descriptor, error) {
			for _, e := range edits {
				after, err := e.make(x, up, folder, dated)
				if err != nil {
					return nil, err
				}
				dated, x = days(e, x, after, folder, dated), after
			}
			return x, nil
		},
		dates: func(before, after *rule.Descriptor, folder bool, dated estate.Dated) estate.Dated {
			x := before
			for _, e := range edits {
				if x == nil {
					break
				}
				then, err := e.make(x, nil, folder, dated)
				if err != nil {
					break
				}
				dated, x = days(e, x, then, folder, dated), then
			}
			return still(dated, after)
		},
		posix: func(r, up *posix.Rules, dated estate.Dated) (*posix.Rules, error) {
			r, days, err := chainPosix(edits, r, up, dated)
			chained = days
			return r, err
		},
		posixDates: func(before, after *rule.Descriptor, dated estate.Dated) estate.Dated { return still(chained, after) },
	}
}

// chainPosix is what several edits in a row make of rules of a POSIX tree, and
// of the last days there.
func chainPosix(edits []*itemEdit, r, up *posix.Rules, dated estate.Dated) (*posix.Rules, estate.Dated, error) {
	for _, e := range edits {
		if e.posix == nil {
			return nil, nil, noPosix()
		}
		after, err := e.posix(r, up, dated)
		if err != nil {
			return nil, nil, err
		}
		was, is := r.Listed(), after.Listed()
		if e.posixDates != nil {
			dated = e.posixDates(was, is, dated)
		} else {
			dated = still(dated, is)
		}
		r = after.Settled(r).(*posix.Rules)
	}
	return r, dated, nil
}

// done works all of it out, but for finishing the plan.
func (b *bundle) done() error {
	d, p := b.d, b.p
	p.work.everywhere = p.work.people() && len(b.items)+len(b.shares) > 0
	for _, x := range b.shares {
		if err := d.editShare(p, x.of.server, x.of.share, chain(x.edits)); err != nil {
			return err
		}
	}
	if len(b.items) == 0 {
		if len(p.work.shares) > 0 {
			return d.below(p)
		}
		return nil
	}
	var pieces []piece
	alike := map[string]int{}
	for _, x := range b.items {
		var key strings.Builder
		for _, e := range x.edits {
			fmt.Fprintf(&key, "%p ", e)
		}
		i, ok := alike[key.String()]
		if !ok {
			i = len(pieces)
			alike[key.String()] = i
			pieces = append(pieces, piece{edit: chain(x.edits)})
		}
		pieces[i].targets = append(pieces[i].targets, x.of)
	}
	var seen piece // what the shares stand over is looked at too
	for _, e := range p.work.shares {
		if at, err := d.t.At(e.server, e.before.Folder); err == nil {
			if _, edited := b.at[at.Item]; !edited {
				seen.targets = append(seen.targets, at.Target())
			}
		}
	}
	if len(seen.targets) > 0 {
		pieces = append(pieces, seen)
	}
	return d.onPieces(p, pieces, false)
}
