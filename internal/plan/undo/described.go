package undo

import (
	"maps"
	"slices"

	"tarnwold/core/rule"
	"tarnwold/internal/estate"
	"tarnwold/internal/estate/edit"
	"tarnwold/internal/format"
	"tarnwold/internal/plan"
)

// Described tells what a change of the journal altered, in the words of plans.
func Described(d *plan.Planner, id int64) ([]edit.Description, error) {
	t := d.T
	edits := []edit.Description{}
	turns := t.Turns(id)
	strands := make([]int64, len(turns))
	for i, x := range turns {
		strands[i] = x.Strand
	}
	stand, first := t.StrandsNow(strands), t.FirstOf(strands)
	t.Locate(slices.Collect(maps.Values(first)))
	for _, x := range turns {
		now, ok := stand[x.Strand]
		e := edit.Description{Kind: "item", Where: "items no longer there", Items: now.Items, Lines: d.Diff(x.Before, x.After, now.Folder, nil, nil)}
		if item, any := first[x.Strand]; any {
			e.Where = t.Where(item)
		}
		if ok && len(e.Lines) > 0 {
			edits = append(edits, e)
		}
	}
	w := rowWords{plan.Words{Planner: d}}
	for _, r := range t.Rows(id) {
		if r.Last != 0 {
			edits = append(edits, edit.Description{Kind: r.Table, Where: r.Table, Lines: []edit.Line{{Sign: edit.Comes, What: "rows", Text: format.Count(r.Last-r.ID+1, "row")}}})
			continue
		}
		e, ok, err := edit.DescribeRow(w, &r)
		if err != nil {
			return nil, err
		}
		if ok {
			edits = append(edits, e)
		}
	}
	return edits, t.Err()
}

// rowWords are what rows of the journal are described in: by what stands under their
// numbers now.
type rowWords struct{ plan.Words }

// RowName implements edit.RowWords.
func (w rowWords) RowName(row int64) string {
	if a, ok := w.T.RowAccount(row); ok {
		return w.T.Name(a.ID)
	}
	return "an account no longer there"
}

// ServerName implements edit.RowWords.
func (w rowWords) ServerName(row int64) string {
	if now, err := edit.ServerNow(w.T, row); err == nil && now != nil {
		return now.Name
	}
	return ""
}

// Rules implements edit.RowWords.
func (w rowWords) Rules(descriptor int64) rule.Any { return w.T.Descriptor(descriptor) }

// Where implements edit.RowWords.
func (w rowWords) Where(item int64) string { return w.T.Where(item) }

// Record implements edit.RowWords.
func (w rowWords) Record(kind estate.RecordKind, name, body string, sign edit.Sign) edit.Description {
	return w.DescribeRecord(kind, name, body, sign)
}
