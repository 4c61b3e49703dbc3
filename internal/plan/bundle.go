package plan

import (
	"fmt"
	"slices"
	"strings"

	"tarnwold/core/posix"
	"tarnwold/core/rule"
	"tarnwold/internal/estate"
)

// Bundle gathers edits of many items and shares, several of one thing among
// them, beside what else a plan changes, so that all of it is one plan with
// one impact.
type Bundle struct {
	d      *Planner
	P      *Plan
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
	edits []*ItemEdit
}

func (d *Planner) Bundle(p *Plan) *Bundle {
	return &Bundle{d: d, P: p, at: map[int64]int{}, over: map[int64]int{}}
}

// Item adds an edit of an item, after those it has already.
func (b *Bundle) Item(x estate.Target, e *ItemEdit) {
	i, ok := b.at[x.Item]
	if !ok {
		i = len(b.items)
		b.at[x.Item] = i
		b.items = append(b.items, bundled[estate.Target]{of: x})
	}
	b.items[i].edits = append(b.items[i].edits, e)
}

// Share adds an edit of a share's own rules.
func (b *Bundle) Share(s estate.Server, sh estate.Share, e *ItemEdit) {
	i, ok := b.over[sh.ID]
	if !ok {
		i = len(b.shares)
		b.over[sh.ID] = i
		b.shares = append(b.shares, bundled[sharePlace]{of: sharePlace{s, sh}})
	}
	b.shares[i].edits = append(b.shares[i].edits, e)
}

// chain makes one edit of several.
func chain(edits []*ItemEdit) ItemEdit {
	if len(edits) == 1 {
		return *edits[0]
	}
	days := func(e *ItemEdit, before, after *rule.Descriptor, folder bool, dated estate.Dated) estate.Dated {
		if e.Dates != nil {
			return e.Dates(before, after, folder, dated)
		}
		return Still(dated, after)
	}
	var chained estate.Dated // of the item worked out last
	return ItemEdit{
		Each: func(r *posix.Rules) *posix.Rules {
			for _, e := range edits {
				if e.Each != nil {
					r = e.Each(r)
				}
			}
			return r
		},
		Hands: slices.ContainsFunc(edits, func(e *ItemEdit) bool { return e.Hands }),
		Make: func(x, up *rule.Descriptor, folder bool, dated estate.Dated) (*rule.Descriptor, error) {
			for _, e := range edits {
				after, err := e.Make(x, up, folder, dated)
				if err != nil {
					return nil, err
				}
				dated, x = days(e, x, after, folder, dated), after
			}
			return x, nil
		},
		Dates: func(before, after *rule.Descriptor, folder bool, dated estate.Dated) estate.Dated {
			x := before
			for _, e := range edits {
				if x == nil {
					break
				}
				then, err := e.Make(x, nil, folder, dated)
				if err != nil {
					break
				}
				dated, x = days(e, x, then, folder, dated), then
			}
			return Still(dated, after)
		},
		Posix: func(r, up *posix.Rules, dated estate.Dated) (*posix.Rules, error) {
			r, days, err := chainPosix(edits, r, up, dated)
			chained = days
			return r, err
		},
		PosixDates: func(_, after *rule.Descriptor, _ bool, _ estate.Dated) estate.Dated { return Still(chained, after) },
	}
}

// chainPosix is what several edits in a row make of rules of a POSIX tree, and
// of the last days there.
func chainPosix(edits []*ItemEdit, r, up *posix.Rules, dated estate.Dated) (*posix.Rules, estate.Dated, error) {
	for _, e := range edits {
		if e.Posix == nil {
			return nil, nil, noPosix()
		}
		after, err := e.Posix(r, up, dated)
		if err != nil {
			return nil, nil, err
		}
		was, is := r.Listed(), after.Listed()
		if e.PosixDates != nil {
			dated = e.PosixDates(was, is, r.Folder, dated)
		} else {
			dated = Still(dated, is)
		}
		r = after.Normalized(r).(*posix.Rules)
	}
	return r, dated, nil
}

// Done works all of it out, but for finishing the plan.
func (b *Bundle) Done() error {
	d, p := b.d, b.P
	p.Work.Everywhere = p.Work.People() && len(b.items)+len(b.shares) > 0
	for _, x := range b.shares {
		if err := d.editShare(p, x.of.server, x.of.share, chain(x.edits)); err != nil {
			return err
		}
	}
	if len(b.items) == 0 {
		if len(p.Work.Shares) > 0 {
			return d.Below(p)
		}
		return nil
	}
	var pieces []Piece
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
			pieces = append(pieces, Piece{Edit: chain(x.edits)})
		}
		pieces[i].Targets = append(pieces[i].Targets, x.of)
	}
	return d.OnPieces(p, pieces, false)
}
