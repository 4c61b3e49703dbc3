package estate

import (
	"fmt"

	"tarnwold/core/rule"
	"tarnwold/internal/format"
	"tarnwold/internal/store"
)

// Make puts a new item into a folder.
func (t *Tx) Make(folder Place, name string, isFolder bool, d rule.Any) int64 {
	return t.make(folder.Item, t.Int("SELECT strand FROM items WHERE id=?", folder.Item), name, isFolder, d)
}

// MakeIn puts a new item into a folder that was made just now.
func (t *Tx) MakeIn(folder int64, name string, isFolder bool, d rule.Any) int64 {
	return t.make(folder, t.Int("SELECT strand FROM items WHERE id=?", folder), name, isFolder, d)
}

// make finds or makes the strand for a new item below a strand.
func (t *Tx) make(parent, under int64, name string, isFolder bool, d rule.Any) int64 {
	did := t.keep(d)
	strand := t.Int("SELECT id FROM strands WHERE parent=? AND descriptor=? AND folder=? ORDER BY id DESC LIMIT 1", under, did, isFolder)
	if strand == 0 || isFolder { // a folder that is alone is cheap to change later
		strand = t.Exec("INSERT INTO strands(parent, descriptor, folder) VALUES(?,?,?)", under, did, isFolder)
	}
	return t.Exec("INSERT INTO items(parent, name, strand, fold) VALUES(?,?,?,?)", parent, name, strand, store.Fold(name))
}

// Move puts an item with all below it into another folder, under a name.
func (t *Tx) Move(item, folder int64, name string) {
	own := t.Alone(item)
	t.Exec("UPDATE items SET parent=?, name=?, fold=? WHERE id=?", folder, name, store.Fold(name), item)
	t.Exec("UPDATE strands SET parent=(SELECT strand FROM items WHERE id=?) WHERE id=?", folder, own)
	clear(t.paths)
	clear(t.located)
	clear(t.strands)
}

// Remove takes items out, and the last days of their entries.
func (t *Tx) Remove(items []int64) {
	for _, id := range items {
		t.Exec("DELETE FROM deadlines WHERE item=? AND share=0", id)
		t.Delete("items", id)
	}
	clear(t.paths)
	clear(t.located)
}

// Subtree lists an item and all below it, folders before what is in them, up
// to a limit.
func (t *Tx) Subtree(item int64, limit int) []int64 {
	return t.Ints(`WITH RECURSIVE b(id) AS (VALUES(?) UNION ALL SELECT i.id FROM b JOIN items i ON i.parent=b.id)
		SELECT id FROM b LIMIT ?`, item, limit)
}

// CountUnder counts the items of a strand and of all strands below it.
func (t *Tx) CountUnder(strand int64) int64 {
	return t.Int(`WITH RECURSIVE b(id) AS (VALUES(?) UNION ALL SELECT s.id FROM b JOIN strands s ON s.parent=b.id)
		SELECT coalesce(sum(w.items),0) FROM b JOIN weights w ON w.strand=b.id`, strand)
}

// ItemRow is an item's own row.
type ItemRow struct {
	ID, Parent, Strand int64
	Name               string
	Folder             bool
}

// ItemRow reads an item; ok is false where it isn't there.
func (t *Tx) ItemRow(id int64) (r ItemRow, ok bool) {
	r.ID = id
	ok = t.One("SELECT i.parent, i.strand, i.name, s.folder FROM items i JOIN strands s ON s.id=i.strand WHERE i.id=?", []any{id}, &r.Parent, &r.Strand, &r.Name, &r.Folder)
	return r, ok
}

// GoodItemName refuses names that no folder can hold.
func GoodItemName(name string) error {
	switch {
	case name == "" || name == "." || name == "..":
		return &Refused{Why: fmt.Sprintf("%q is not a valid name for an item", name)}
	case len(name) > 4096:
		return &Refused{Why: fmt.Sprintf("a name of %d bytes is too long for an item: at most 4096 are taken", len(name))}
	}
	for i := range len(name) {
		if name[i] == '/' || name[i] == 0 {
			return &Refused{Why: fmt.Sprintf("%q is not a valid name for an item: leave out / and zero bytes", format.Clip(name))}
		}
	}
	return nil
}
