package estate

import (
	"database/sql"
	"fmt"
	"slices"
	"strings"

	"tarnwold/core/account"
	"tarnwold/core/rule"
	"tarnwold/internal/store"
)

// Change is one change of the journal.
type Change struct {
	ID       int64  `json:"change"`
	At       string `json:"at"` // RFC 3339, UTC
	Actor    string `json:"by"`
	Command  string `json:"command"`
	Summary  string `json:"what"`
	Forced   string `json:"forced,omitempty"`
	Undoes   int64  `json:"undoes,omitempty"`
	UndoneBy int64  `json:"undone-by,omitempty"`
}

// Proof is what a change carries, so that nothing before it can be altered unseen.
type Proof = store.Proof

// Log lists the journal, newest first.
func (t *Tx) Log() (out []Change) {
	t.Each("SELECT id, at, actor, command, summary, forced, undoes FROM journal WHERE id<>? ORDER BY id DESC", []any{t.Change()}, func(r *sql.Rows) error {
		var c Change
		err := r.Scan(&c.ID, &c.At, &c.Actor, &c.Command, &c.Summary, &c.Forced, &c.Undoes)
		out = append(out, c)
		return err
	})
	// Newest first: whether an undoing change stands is known before what it undid.
	undone := map[int64]int64{}
	for i := range out {
		c := &out[i]
		c.UndoneBy = undone[c.ID]
		if c.Undoes != 0 && c.UndoneBy == 0 && undone[c.Undoes] == 0 {
			undone[c.Undoes] = c.ID
		}
	}
	return out
}

// Record finds one change.
func (t *Tx) ChangeNumbered(id int64) (Change, error) {
	for _, c := range t.Log() {
		if c.ID == id {
			return c, nil
		}
	}
	if err := t.Err(); err != nil {
		return Change{}, err
	}
	return Change{}, &NotFound{What: "change", Name: fmt.Sprint(id), In: "the journal; see: tarnwold log"}
}

// LastBefore gives the last change before a moment (RFC 3339, UTC), 0 for
// none; else when the journal begins, and whether it does.
func (t *Tx) LastBefore(moment string) (id int64, first string, begun bool) {
	begun = t.One("SELECT at FROM journal WHERE id<>? ORDER BY id LIMIT 1", []any{t.Change()}, &first)
	// Clocks go back at times: what came after a later change isn't before it.
	later := t.Int("SELECT coalesce(min(id),0) FROM journal WHERE id<>? AND at>=?", t.Change(), moment)
	if later == 0 {
		return t.Int("SELECT coalesce(max(id),0) FROM journal WHERE id<>?", t.Change()), first, begun
	}
	return t.Int("SELECT coalesce(max(id),0) FROM journal WHERE id<?", later), first, begun
}

// RewindOne takes back one change in a private estate; see store.Tx.RewindOne.
func (t *Tx) RewindOne(change int64, only *Lineage) Rewound {
	out := Rewound{}
	for table := range t.rows.RewindOne(change, only) {
		switch table {
		case "items":
			out.Moved, out.Rules = true, true
		case "strands", "descriptors", "weights":
			out.Rules = true
		case "deadlines", "layouts", "facts":
		default:
			out.People = true
		}
	}
	if out.People {
		t.refresh()
	} else {
		t.refreshItems()
	}
	return out
}

// Rewound is what a change that was taken back had to do with: rules of items, where items
// are and that they are there, or anything else.
type Rewound struct{ Rules, Moved, People bool }

// Lineage is all that one item's rules have hung on; see store.Lineage.
type Lineage = store.Lineage

// LineageOf finds the lineage of a place; nil where all changes have to be looked at.
func (t *Tx) LineageOf(p Place) *Lineage { return t.rows.LineageOf(p.Item) }

// Rewind takes back every change after one in a private estate.
func (t *Tx) Rewind(after int64) {
	t.rows.Rewind(after)
	t.refresh()
}

// refresh forgets what was looked up, but for descriptors, which never change.
func (t *Tx) refresh() {
	t.forget()
	t.refreshItems()
	clear(t.servers)
	clear(t.shares)
}

// refreshItems is refresh where nothing but items and their rules may be others.
func (t *Tx) refreshItems() {
	clear(t.strands)
	clear(t.paths)
	clear(t.located)
	t.parted, t.laid = nil, nil
	t.ownRead = false
}

// Put brings a row back under its old number.
func (t *Tx) Put(table string, id int64, values []any) {
	t.rows.Put(table, id, values)
	t.refresh()
}

// DeleteRange takes rows first to last out.
func (t *Tx) DeleteRange(table string, first, last int64) {
	t.rows.DeleteRange(table, first, last)
	t.refresh()
}

// Brought tells whether a change is the load that brought a place.
func (t *Tx) Brought(change int64, p Place) bool {
	return t.Int("SELECT count(*) FROM journal_rows WHERE change=? AND tbl='items' AND last<>0 AND ? BETWEEN row AND last", change, p.Item) > 0
}

// Summary gives what a change did, in the words of the journal.
func (t *Tx) Summary(id int64) (s string) {
	t.One("SELECT summary FROM journal WHERE id=?", []any{id}, &s)
	return s
}

// Turn is how a change turned one strand's descriptor.
type Turn struct {
	Strand        int64
	Before, After rule.Any
}

var strandDescriptor = slices.Index(store.Columns("strands"), "descriptor")

// Turns lists the descriptors a change altered, each strand once.
func (t *Tx) Turns(change int64) (out []Turn) {
	at := map[int64]int{}
	rows := t.RowsOf(change, "strands")
	var rules []int64
	for _, r := range rows {
		if r.Before != nil && r.After != nil {
			rules = append(rules, store.Number(r.Before, strandDescriptor), store.Number(r.After, strandDescriptor))
		}
	}
	t.Fetch(rules)
	for _, r := range rows {
		if r.Before == nil || r.After == nil {
			continue
		}
		b, a := store.Number(r.Before, strandDescriptor), store.Number(r.After, strandDescriptor)
		if b == a {
			continue
		}
		if i, ok := at[r.ID]; ok {
			out[i].After = t.Descriptor(a)
			continue
		}
		at[r.ID] = len(out)
		out = append(out, Turn{r.ID, t.Descriptor(b), t.Descriptor(a)})
	}
	return out
}

// Since lists the strands that were parted from one since a change, and from
// those, the strand itself first.
func (t *Tx) Since(change, strand int64) []int64 {
	if t.parted == nil {
		t.parted = map[int64][]int64{}
		t.Each("SELECT id, origin FROM strands WHERE origin<>0", nil, func(r *sql.Rows) error {
			var id, origin int64
			err := r.Scan(&id, &origin)
			t.parted[origin] = append(t.parted[origin], id)
			return err
		})
	}
	out := []int64{strand}
	for i := 0; i < len(out); i++ {
		for _, s := range t.parted[out[i]] {
			if made := t.Int("SELECT coalesce(min(change),0) FROM journal_rows WHERE tbl='strands' AND row=? AND before IS NULL", s); made > change {
				out = append(out, s)
			}
		}
	}
	return out
}

// TouchedSince tells whether any change after one altered rows of tables.
func (t *Tx) TouchedSince(change int64, tables ...string) bool {
	for _, table := range tables {
		if t.Int("SELECT count(*) FROM (SELECT 1 FROM journal_rows WHERE change>? AND +tbl=? LIMIT 1)", change, table) > 0 {
			return true
		}
	}
	return false
}

// LaterTurn gives the last change after one that altered a strand's descriptor
// or a row; 0 for none.
func (t *Tx) LaterTurn(change int64, table string, row int64) int64 {
	return t.Int("SELECT coalesce(max(change),0) FROM journal_rows WHERE tbl=? AND row=? AND change>?", table, row, change)
}

// AlteredSince gives the rows of a table that changes after one altered; those
// that came by the hundred are left out.
func (t *Tx) AlteredSince(change int64, table string) map[int64]bool {
	out := map[int64]bool{}
	for _, id := range t.Ints("SELECT DISTINCT row FROM journal_rows WHERE change>? AND +tbl=? AND last=0", change, table) {
		out[id] = true
	}
	return out
}

// LaterIn is LaterTurn for any of the rows first to last.
func (t *Tx) LaterIn(change int64, table string, first, last int64) int64 {
	return t.Int("SELECT coalesce(max(change),0) FROM journal_rows WHERE tbl=? AND row BETWEEN ? AND ? AND change>?", table, first, last, change)
}

// StrandNow tells of a strand what journal and undo ask.
func (t *Tx) StrandNow(id int64) (d rule.Any, folder bool, items int64, ok bool) {
	var did int64
	if !t.One("SELECT descriptor, folder FROM strands WHERE id=?", []any{id}, &did, &folder) {
		return nil, false, 0, false
	}
	return t.Descriptor(did), folder, t.Weight(id), true
}

// StrandsNow tells of many strands at once, and reads their rules; those that are no
// longer there are left out.
func (t *Tx) StrandsNow(ids []int64) map[int64]Strand {
	out := make(map[int64]Strand, len(ids))
	var rules []int64
	t.EachOf("SELECT s.id, s.parent, s.descriptor, s.folder, coalesce(w.items, 0) FROM strands s LEFT JOIN weights w ON w.strand=s.id WHERE s.id IN {set}", ids, func(r *sql.Rows) error {
		var s Strand
		err := r.Scan(&s.ID, &s.Parent, &s.Descriptor, &s.Folder, &s.Items)
		out[s.ID] = s
		rules = append(rules, s.Descriptor)
		t.rememberStrand(s.ID, strandRow{s.Parent, s.Descriptor, s.Folder})
		return err
	})
	t.Fetch(rules)
	return out
}

// Targets lists the items of a strand.
func (t *Tx) Targets(strand int64) (out []Target) {
	folder := t.isFolder(strand)
	for _, id := range t.Ints("SELECT id FROM items WHERE strand=? ORDER BY id", strand) {
		out = append(out, Target{id, strand, folder})
	}
	return out
}

// Concerns tells whether a change altered entries or ownership that name one
// of some identifiers, or the account or its memberships themselves.
func (t *Tx) Concerns(change int64, ids []account.ID) bool {
	accounts := map[int64]bool{}
	for _, id := range ids {
		if a := t.account(id); a != nil {
			accounts[a.id] = true
		}
	}
	names := func(a rule.Any) []string {
		var out []string
		d := a.Listed()
		if slices.Contains(ids, d.Owner) {
			out = append(out, "owner "+d.Owner.String())
		}
		for _, e := range append(d.Rules.Own(), d.Audit.Own()...) {
			if slices.Contains(ids, e.Who) {
				out = append(out, EntryKey(e))
			}
		}
		slices.Sort(out)
		return out
	}
	differ := func(a, b rule.Any) bool { return !slices.Equal(names(a), names(b)) }
	for _, x := range t.Turns(change) {
		if differ(x.Before, x.After) {
			return true
		}
	}
	var empty rule.Any = &rule.Descriptor{}
	for _, r := range t.Rows(change) {
		either := r.After
		if either == nil {
			either = r.Before
		}
		switch r.Table {
		case "accounts":
			sid := store.Text(either, slices.Index(store.Columns("accounts"), "sid"))
			if accounts[r.ID] || slices.ContainsFunc(ids, func(id account.ID) bool { return id.String() == sid }) {
				return true
			}
		case "members":
			if accounts[store.Number(either, 0)] || accounts[store.Number(either, 1)] {
				return true
			}
		case "administrators":
			if accounts[store.Number(either, 1)] {
				return true
			}
		case "papers": // what it says names accounts by their identifiers
			body := store.Text(either, 1) + " " + store.Text(either, 2)
			for _, id := range ids {
				if strings.Contains(body, strings.ToLower(id.String())+" ") || strings.Contains(body, `"`+id.String()+`"`) {
					return true
				}
			}
		case "deadlines":
			who := store.Text(either, 2)
			if i := strings.LastIndexByte(who, ' '); i >= 0 && slices.ContainsFunc(ids, func(id account.ID) bool { return id.String() == who[i+1:] }) {
				return true
			}
		case "shares":
			at := slices.Index(store.Columns("shares"), "descriptor")
			b, a := empty, empty
			if r.Before != nil {
				b = t.Descriptor(store.Number(r.Before, at))
			}
			if r.After != nil {
				a = t.Descriptor(store.Number(r.After, at))
			}
			if differ(b, a) {
				return true
			}
		}
	}
	return false
}

// Descends tells whether a strand is another, or was parted from it.
func (t *Tx) Descends(strand, from int64) bool {
	for s := strand; s != 0; s = t.Int("SELECT origin FROM strands WHERE id=?", s) {
		if s == from {
			return true
		}
	}
	return false
}

// DatedBy tells whether a change altered last days of an item.
func (t *Tx) DatedBy(change, item int64) bool {
	for _, r := range t.RowsOf(change, "deadlines") {
		v := r.After
		if v == nil {
			v = r.Before
		}
		if v != nil && store.Number(v, 0) == item {
			return true
		}
	}
	return false
}

// Altered tells whether a change altered the descriptor of a place's strand,
// or of one that strand was parted from, or moved or made the item.
func (t *Tx) Altered(change int64, p Place) bool {
	for _, x := range t.Turns(change) {
		if t.Descends(p.Strand, x.Strand) {
			return true
		}
	}
	for _, r := range t.RowsOf(change, "items") {
		if r.Last == 0 && r.ID == p.Item && (r.Before == nil || r.After == nil || store.Number(r.Before, 0) != store.Number(r.After, 0) || store.Text(r.Before, 1) != store.Text(r.After, 1)) {
			return true
		}
		if r.Last != 0 && r.ID <= p.Item && p.Item <= r.Last {
			return true
		}
	}
	return false
}

// StrandsOf lists the strands that have a descriptor.
func (t *Tx) StrandsOf(descriptor int64) []int64 {
	return t.Ints("SELECT id FROM strands WHERE descriptor=? ORDER BY id", descriptor)
}

// StandingIn gives the last change after one that altered any of the rows
// first to last and stands: that is neither undone nor an undoing; 0 for none.
func (t *Tx) StandingIn(change int64, table string, first, last int64) int64 {
	later := t.Ints("SELECT DISTINCT change FROM journal_rows WHERE tbl=? AND row BETWEEN ? AND ? AND change>? ORDER BY change DESC", table, first, last, change)
	if len(later) == 0 {
		return 0
	}
	settled := map[int64]bool{}
	for _, r := range t.Log() {
		settled[r.ID] = r.Undoes != 0 || r.UndoneBy != 0
	}
	for _, c := range later {
		if !settled[c] {
			return c
		}
	}
	return 0
}

// CrossesRange counts the items that are in a folder of the items first to
// last and not of them, and those of them in a folder that isn't.
func (t *Tx) CrossesRange(first, last int64) (in, out int64) {
	in = t.Int("SELECT count(*) FROM items WHERE parent BETWEEN ? AND ? AND id NOT BETWEEN ? AND ?", first, last, first, last)
	tops := int64(len(t.TopsIn(first, last)))
	return in, max(0, tops-1)
}

// TopsIn lists the items first to last whose folder is none of them.
func (t *Tx) TopsIn(first, last int64) []int64 {
	return t.Ints("SELECT id FROM items WHERE id BETWEEN ? AND ? AND parent NOT BETWEEN ? AND ?", first, last, first, last)
}
