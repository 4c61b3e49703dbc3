package estate

import (
	"cmp"
	"database/sql"
	"maps"
	"slices"

	"github.com/bmatcuk/doublestar/v4"

	"tarnwold/core/account"
	"tarnwold/core/place"
	"tarnwold/core/rule"
	"tarnwold/internal/format"
	"tarnwold/internal/store"
)

// Kinds says which kinds of items are wanted.
type Kinds uint8

const (
	Folders Kinds = 1 << iota
	Files
)

func (k Kinds) has(folder bool) bool { return folder && k&Folders != 0 || !folder && k&Files != 0 }

// Match finds the items a pattern means: parts fit names by doublestar's
// rules, case apart; ** stands for any folders. base is where it begins.
func (t *Tx) Match(p place.Pattern, kinds Kinds) (base Place, out []Target, err error) {
	base, err = t.Find(p.Base)
	if err != nil {
		return base, nil, err
	}
	if len(p.Parts) == 0 {
		if kinds.has(base.Folder) {
			out = append(out, base.Target())
		}
		return base, out, nil
	}
	keys := make([]string, len(p.Parts))
	for i, part := range p.Parts {
		keys[i] = store.Key(part)
		if !doublestar.ValidatePattern(part) || len(keys) > 60 {
			return base, nil, refuse("", "%q is not a pattern", format.Clip(part))
		}
	}
	if !base.Folder {
		return base, nil, nil
	}
	fits := map[[2]string]bool{}
	match := func(key, name string) bool {
		if key == "*" {
			return true
		}
		k := [2]string{key, name}
		yes, ok := fits[k]
		if !ok {
			yes, _ = doublestar.Match(key, store.Key(name))
			if len(fits) < 1<<16 {
				fits[k] = yes
			}
		}
		return yes
	}
	// open has the parts that may fit next, as bits; ** stays open.
	end := uint64(1) << len(keys)
	spread := func(open uint64) uint64 {
		for i, k := range keys {
			if open>>i&1 != 0 && k == "**" {
				open |= 1 << (i + 1)
			}
		}
		return open
	}
	next := func(open uint64, name string, folder bool) (then uint64) {
		for i, k := range keys {
			if open>>i&1 == 0 {
				continue
			}
			if k == "**" {
				if folder {
					then |= 1 << i
				}
				if i+1 == len(keys) { // ** at the end: whatever is below
					then |= end
				}
			} else if match(k, name) {
				then |= 1 << (i + 1)
			}
		}
		return spread(then)
	}
	start := spread(1) &^ end
	deep := false
	for _, k := range keys {
		deep = deep || k == "**"
	}
	if keys[0] == "**" && len(keys) == 1 && kinds.has(true) {
		out = append(out, base.Target())
	}
	if !deep {
		var walk func(folder int64, open uint64)
		walk = func(folder int64, open uint64) {
			for _, c := range t.Within(folder) {
				then := next(open, c.Name, c.Folder)
				if then&end != 0 && kinds.has(c.Folder) {
					out = append(out, Target{c.Item, c.Strand, c.Folder})
				}
				if c.Folder && then&^end != 0 && t.Err() == nil {
					walk(c.Item, then&^end)
				}
			}
		}
		walk(base.Item, start)
		return base, out, t.Err()
	}
	// Folders first and as one query; files only where they are wanted.
	open := map[int64]uint64{base.Item: start}
	t.Each(`WITH RECURSIVE b(id, parent, name, strand) AS (
			SELECT i.id, i.parent, i.name, i.strand FROM items i JOIN strands s ON s.id=i.strand WHERE i.parent=? AND s.folder=1
			UNION ALL SELECT i.id, i.parent, i.name, i.strand FROM b JOIN items i ON i.parent=b.id JOIN strands s ON s.id=i.strand WHERE s.folder=1)
		SELECT id, parent, name, strand FROM b`, []any{base.Item}, func(r *sql.Rows) error {
		var id, parent, strand int64
		var name string
		if err := r.Scan(&id, &parent, &name, &strand); err != nil {
			return err
		}
		then := next(open[parent], name, true)
		if then&end != 0 && kinds.has(true) {
			out = append(out, Target{id, strand, true})
		}
		if then&^end != 0 {
			open[id] = then &^ end
		}
		return nil
	})
	if kinds.has(false) {
		t.Each(`WITH RECURSIVE b(id) AS (VALUES(?)
				UNION ALL SELECT i.id FROM b JOIN items i ON i.parent=b.id JOIN strands s ON s.id=i.strand WHERE s.folder=1)
			SELECT i.id, i.parent, i.name, i.strand FROM b JOIN items i ON i.parent=b.id JOIN strands s ON s.id=i.strand WHERE s.folder=0`,
			[]any{base.Item}, func(r *sql.Rows) error {
				var id, parent, strand int64
				var name string
				err := r.Scan(&id, &parent, &name, &strand)
				if from := open[parent]; from != 0 && next(from, name, false)&end != 0 {
					out = append(out, Target{id, strand, false})
				}
				return err
			})
	}
	// In the order they came to the estate, whatever way they were found.
	slices.SortFunc(out, func(a, b Target) int { return cmp.Compare(a.Item, b.Item) })
	return base, out, t.Err()
}

// Owned calls fn with each item one of some identifiers owns, at or below a
// place, or everywhere with a nil one; fn may end it with an error.
func (t *Tx) Owned(owners []account.ID, under *Place, fn func(target Target, where string) error) error {
	mine := map[account.ID]bool{}
	var machine account.ID // whose own the owner is: nobody elsewhere
	for _, id := range owners {
		mine[id] = true
		if realm, _, own := id.Machine(); own {
			machine = realm
		}
		if a, ok := t.Account(id); ok { // on POSIX trees a number owns
			for _, form := range t.Forms(a) {
				mine[form] = true
			}
		}
	}
	var ids []int64
	t.Naming(slices.Collect(maps.Keys(mine)), func(id int64, d rule.Any) {
		if mine[d.Owned()] {
			ids = append(ids, id)
		}
	})
	var strands []int64
	for _, list := range t.StrandsHaving(ids) {
		for _, s := range list {
			strands = append(strands, s.ID)
		}
	}
	slices.Sort(strands)
	for _, strand := range strands {
		folder := t.isFolder(strand)
		var last int64
		for t.Err() == nil {
			// A batch at a time, for addresses are asked for in between.
			type hit struct {
				id, parent int64
				name       string
			}
			const batch = 4096
			hits := make([]hit, 0, 64)
			t.Each("SELECT id, parent, name FROM items WHERE strand=? AND id>? ORDER BY id LIMIT ?", []any{strand, last, batch}, func(r *sql.Rows) error {
				var h hit
				err := r.Scan(&h.id, &h.parent, &h.name)
				hits = append(hits, h)
				return err
			})
			for _, h := range hits {
				last = h.id
				at, ok := t.standingIn(h.id, h.parent, h.name)
				if !ok || !machine.IsZero() && ServerRealm(*at.server) != machine || under != nil && (at.server.ID != under.Server.ID || !place.Under(at.path, under.Path)) {
					continue
				}
				if err := fn(Target{h.id, strand, folder}, place.Address{Server: at.server.Name, Path: at.path}.String()); err != nil {
					return err
				}
			}
			if len(hits) < batch {
				break
			}
		}
	}
	return t.Err()
}
