package estate

import (
	"database/sql"
	"fmt"
	"hash/maphash"
	"slices"
	"sort"
	"strings"

	"tarnwold/core/account"
	"tarnwold/core/rule"
	"tarnwold/internal/format"
)

type descriptor = rule.Descriptor

// RowError is a row that can't be loaded.
type RowError struct {
	Line int
	What string
}

func (e *RowError) Error() string { return fmt.Sprintf("line %d: %s", e.Line, e.What) }

// ownStrand is how many items below a folder give it a strand of its own.
const ownStrand = 512

// LoadTree puts a whole tree at a server's own path. step is called now and
// then with the number of rows done; it may be nil.
func (t *Tx) LoadTree(s Server, at string, tree *format.Tree, step func(done int)) error {
	above, err := t.landing(s, at)
	if err != nil {
		return err
	}
	rows, bodies := tree.Rows, tree.Bodies
	plan, err := arrange(rows)
	if err != nil {
		return err
	}
	ids := make([]int64, len(bodies))
	for i, d := range bodies {
		ids[i] = t.keep(d)
	}
	fresh := t.int("SELECT count(*) FROM (SELECT 1 FROM items LIMIT 1)") == 0
	if fresh {
		t.exec(dropItemIndexes)
	}
	firstStrand := t.int("SELECT coalesce(max(seq),0) FROM sqlite_sequence WHERE name='strands'") + 1
	firstItem := t.int("SELECT coalesce(max(seq),0) FROM sqlite_sequence WHERE name='items'") + 1

	type key struct {
		parent int64
		body   int64
		folder bool
	}
	// A share's folder has its own strand: routes end there.
	shared := map[string]bool{}
	for _, sh := range t.Shares(s) {
		if rest, ok := under(sh.Folder, at); ok {
			shared[rest] = true
		}
	}
	known := map[key]int64{}
	nextStrand := firstStrand
	strandOf := make([]int64, len(rows))
	var weights []int64
	items := t.bulk("items", "id", "parent", "name", "strand")
	strands := t.bulk("strands", "id", "parent", "descriptor", "folder")
	for done, i := range plan.order {
		r := &rows[i]
		parentItem, parentStrand, name := above.Item, above.Strand, above.name
		if p := plan.parent[i]; p >= 0 {
			parentItem, parentStrand = firstItem+int64(plan.place[p]), strandOf[p]
			name = r.Path[strings.LastIndexByte(r.Path, '/')+1:]
		}
		k := key{parentStrand, ids[r.Body], r.Folder}
		alone := plan.below[i] >= ownStrand || plan.parent[i] < 0 || r.Folder && shared[r.Path]
		strand, ok := known[k]
		if !ok || alone {
			strand = nextStrand
			nextStrand++
			weights = append(weights, 0)
			strands.add(strand, k.parent, k.body, k.folder)
			if !alone {
				known[k] = strand
			}
		}
		strandOf[i] = strand
		weights[strand-firstStrand]++
		items.add(firstItem+int64(plan.place[i]), parentItem, name, strand)
		if t.err != nil {
			return t.Err()
		}
		if step != nil && done%4096 == 0 {
			step(done)
		}
	}
	items.flush()
	strands.flush()
	w := t.bulk("weights", "strand", "items")
	for i, n := range weights {
		w.add(firstStrand+int64(i), n)
	}
	w.flush()
	if fresh {
		t.exec(itemIndexes)
	}
	t.made("strands", firstStrand, nextStrand-1)
	t.made("items", firstItem, firstItem+int64(len(rows))-1)
	if above.Item == 0 {
		id := t.exec("INSERT INTO trees(server, path, item) VALUES(?,?,?)", s.id, at, firstItem+int64(plan.place[plan.order[0]]))
		t.made("trees", id, id)
	}
	if step != nil {
		step(len(rows))
	}
	return t.Err()
}

type landing struct {
	Item, Strand int64
	name         string
}

// landing finds what a tree is to hang from, and refuses a place that is taken.
func (t *Tx) landing(s Server, at string) (landing, error) {
	for _, top := range t.Tops(s) {
		if _, ok := under(top, at); ok {
			return landing{}, refuse("load it at another place", "%s:%s is in the estate already", s.Name, top)
		}
		if _, ok := under(at, top); !ok {
			continue
		}
		if _, err := t.At(s, at); err == nil {
			return landing{}, refuse("load it at another place", "%s:%s is in the estate already", s.Name, at)
		}
		cut := strings.LastIndexByte(at, '/')
		p, err := t.At(s, at[:max(cut, 1)])
		if err != nil {
			return landing{}, err
		}
		if !p.Folder {
			return landing{}, refuse("", "%s is a file", p)
		}
		return landing{p.Item, p.Strand, at[cut+1:]}, nil
	}
	return landing{name: fmt.Sprintf("%d:%s", s.id, at)}, t.Err()
}

// arranged is a tree's rows in an order that puts folders before what is in them.
type arranged struct {
	order  []int32
	place  []int32 // where a row stands in order
	parent []int32 // -1: the top
	below  []int32 // how many items a folder has below it
}

func arrange(rows []format.TreeRow) (*arranged, error) {
	folders := make(map[string]int32, len(rows)/4+1)
	for i := range rows {
		r := &rows[i]
		if !r.Folder {
			continue
		}
		if _, ok := folders[r.Path]; ok {
			return nil, &RowError{int(r.Line), fmt.Sprintf("%q stands a second time", r.Path)}
		}
		folders[r.Path] = int32(i)
	}
	n := len(rows)
	a := &arranged{order: make([]int32, n), place: make([]int32, n), parent: make([]int32, n), below: make([]int32, n)}
	inOrder, top := true, false
	for i := range rows {
		r := &rows[i]
		a.order[i] = int32(i)
		if r.Path == "" {
			if !r.Folder && n > 1 {
				return nil, &RowError{int(r.Line), "the top (the row with an empty path) is a file, and there are rows below it"}
			}
			a.parent[i] = -1
			top = true
			continue
		}
		dir := ""
		if cut := strings.LastIndexByte(r.Path, '/'); cut >= 0 {
			dir = r.Path[:cut]
		}
		p, ok := folders[dir]
		if !ok {
			if dir == "" {
				return nil, &RowError{int(r.Line), "there is no row for the top of the tree: one with an empty path"}
			}
			return nil, &RowError{int(r.Line), fmt.Sprintf("%q is in %q, and there is no row for that folder", r.Path, dir)}
		}
		a.parent[i] = p
		inOrder = inOrder && p < int32(i)
	}
	if !top {
		return nil, &RowError{1, "there is no row for the top of the tree: one with an empty path"}
	}
	if !inOrder {
		sort.SliceStable(a.order, func(x, y int) bool {
			return depth(rows[a.order[x]].Path) < depth(rows[a.order[y]].Path)
		})
	}
	for at, i := range a.order {
		a.place[i] = int32(at)
	}
	for at := n - 1; at >= 0; at-- {
		i := a.order[at]
		if p := a.parent[i]; p >= 0 {
			a.below[p] += a.below[i] + 1
		}
	}
	return a, a.distinct(rows)
}

// distinct refuses a file named twice in one folder, or as a folder beside.
// Names are held by their hash alone, which keeps a million of them small; two
// that share one are compared in full.
func (a *arranged) distinct(rows []format.TreeRow) error {
	seed := maphash.MakeSeed()
	seen := make(map[uint64]struct{}, len(rows))
	for i := range rows {
		h := maphash.String(seed, rows[i].Path)
		if _, ok := seen[h]; !ok {
			seen[h] = struct{}{}
			continue
		}
		for j := range rows[:i] {
			if rows[j].Path == rows[i].Path {
				return &RowError{int(rows[i].Line), fmt.Sprintf("%q stands a second time", rows[i].Path)}
			}
		}
	}
	return nil
}

func depth(path string) int {
	if path == "" {
		return 0
	}
	return 1 + strings.Count(path, "/")
}

// AccountCount says what LoadAccounts did.
type AccountCount struct{ Users, Groups, Members, Completed int }

// LoadAccounts puts accounts and memberships in. An account that is there
// already with the same name is completed where it lacks something, and
// refused where it differs.
func (t *Tx) LoadAccounts(rows []format.AccountRow, members []format.MemberRow) (AccountCount, error) {
	var c AccountCount
	byGID := map[int64]account.ID{}
	names := newNames(t)
	for _, a := range names.rows {
		if a.Kind == account.Group && a.POSIX != account.NoPOSIX {
			byGID[a.POSIX] = a.ID
		}
	}
	for _, r := range rows {
		if err := goodName(r.Kind.String(), r.Name); err != nil {
			return c, &RowError{r.Line, err.Error()}
		}
		old := names.exactly(r.Name, r.Kind)
		if old == nil {
			made := r.Account
			if made.ID.IsZero() {
				made.ID = t.freeID(made)
			}
			if other := names.ids[made.ID]; other != nil {
				return c, &RowError{r.Line, fmt.Sprintf("%s is the identifier of %s %q already", made.ID, other.Kind, other.Name)}
			}
			names.add(&row{made, t.insertAccount(made)})
			if r.Kind == account.User {
				c.Users++
			} else {
				c.Groups++
				if r.POSIX != account.NoPOSIX {
					byGID[r.POSIX] = made.ID
				}
			}
			continue
		}
		if !r.ID.IsZero() && r.ID != old.ID {
			return c, &RowError{r.Line, fmt.Sprintf("%s %q is in the estate with the identifier %s, not %s", r.Kind, r.Name, old.ID, r.ID)}
		}
		if r.POSIX != account.NoPOSIX && old.POSIX != account.NoPOSIX && r.POSIX != old.POSIX {
			return c, &RowError{r.Line, fmt.Sprintf("%s %q is in the estate with the id %d, not %d", r.Kind, r.Name, old.POSIX, r.POSIX)}
		}
		if old.POSIX == account.NoPOSIX && r.POSIX != account.NoPOSIX {
			t.exec("UPDATE accounts SET posix=? WHERE id=?", r.POSIX, old.id)
			c.Completed++
		}
		if r.Kind == account.Group && r.POSIX != account.NoPOSIX {
			byGID[r.POSIX] = old.ID
		}
		if r.Purpose != account.Unsaid && r.Purpose != old.Purpose {
			t.exec("UPDATE accounts SET purpose=? WHERE id=?", string(r.Purpose), old.id)
			c.Completed++
		}
	}
	t.forget()
	for _, r := range rows {
		if r.Kind != account.User || r.PrimaryGID == account.NoPOSIX {
			continue
		}
		id, ok := byGID[r.PrimaryGID]
		if !ok {
			id = account.GID(uint32(r.PrimaryGID))
		}
		if u := names.exactly(r.Name, account.User); u != nil && u.Primary != id {
			t.exec("UPDATE accounts SET main=? WHERE id=?", id.String(), u.id)
		}
	}
	t.forget()
	if len(members) == 0 {
		return c, t.Err()
	}
	d := t.Directory()
	names = newNames(t)
	for _, m := range members {
		g, err := names.find(t, m.Group, account.Group)
		if err != nil {
			return c, &RowError{m.Line, err.Error()}
		}
		a, err := names.find(t, m.Member, 0)
		if err != nil {
			return c, &RowError{m.Line, err.Error()}
		}
		if a.Kind == account.Group {
			if loop := d.Loop(g.ID, a.ID); loop != nil {
				in := make([]string, len(loop))
				for i, id := range loop {
					in[i] = t.Name(id)
				}
				return c, &RowError{m.Line, "a group would hold itself: " + strings.Join(in, " in ")}
			}
		}
		if slices.Contains(d.GroupsOf(a.ID), g.ID) {
			continue
		}
		t.exec("INSERT INTO members(holder, member, until) VALUES(?,?,?)", g.id, a.id, m.Until)
		d.Join(g.ID, a.ID)
		c.Members++
		if t.err != nil {
			return c, t.Err()
		}
	}
	return c, t.Err()
}

// names finds accounts by name without asking the file for each.
type names struct {
	rows []*row
	by   map[string][]*row
	ids  map[account.ID]*row
}

func newNames(t *Tx) *names {
	n := &names{by: map[string][]*row{}, ids: map[account.ID]*row{}}
	t.each("SELECT "+accountColumns+" FROM accounts ORDER BY id", nil, func(r *sql.Rows) error {
		a, err := scanAccount(r)
		if err == nil {
			n.add(a)
		}
		return err
	})
	return n
}

func (n *names) add(a *row) {
	key := strings.ToLower(a.Name)
	n.rows, n.by[key], n.ids[a.ID] = append(n.rows, a), append(n.by[key], a), a
}

func (n *names) exactly(name string, kind account.Kind) *row {
	for _, a := range n.by[strings.ToLower(name)] {
		if a.Kind == kind {
			return a
		}
	}
	return nil
}

// find is Tx.find; names that are not plainly one account's are left to it.
func (n *names) find(t *Tx, word string, kind account.Kind) (*row, error) {
	found := n.by[strings.ToLower(word)]
	if len(found) == 1 && (kind == 0 || found[0].Kind == kind) {
		return found[0], nil
	}
	return t.find(word, kind)
}
