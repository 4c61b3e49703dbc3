package intake

import (
	"slices"
	"time"

	"tarnwold/core/place"
	"tarnwold/core/rule"
	"tarnwold/internal/estate"
	"tarnwold/internal/estate/edit"
	"tarnwold/internal/plan"
	"tarnwold/internal/server"
)

// Drift is what is otherwise on a real server than in the estate.
type Drift struct {
	Server string `json:"server"`
	// Since is when the server was read last: what differs came after that, or
	// was changed in the estate alone. RFC 3339; "" where it never was.
	Since string      `json:"since,omitempty"`
	Lines []DriftLine `json:"differences"`
	More  int         `json:"more"` // beyond the limit
	Alike int         `json:"items-alike"`

	limit int
}

// DriftLine is one difference.
type DriftLine struct {
	Where string `json:"where"`
	// What: came, went, rules; share-came, share-went, share-folder,
	// share-switch, share-rules, not-scanned.
	What string `json:"what"`
	// Changed is when the server says the item was changed last, its rules
	// among that. RFC 3339; "" where it doesn't say.
	Changed string      `json:"changed,omitempty"`
	Lines   []edit.Line `json:"lines,omitempty"` // of rules: what the server has more and less
}

func (f *Drift) note(l DriftLine) {
	if f.limit > 0 && len(f.Lines) >= f.limit {
		f.More++
		return
	}
	f.Lines = append(f.Lines, l)
}

const auditBits = rule.AuditPresent | rule.AuditSealed

// DriftOf compares what a scan found with the estate; limit lines, 0 for all.
func DriftOf(d *plan.Planner, s estate.Server, found []server.Share, trees []*ScannedTree, limit int) (*Drift, error) {
	f := &Drift{Server: s.Name, Lines: []DriftLine{}, limit: limit}
	if at := d.T.Scanned(s); !at.IsZero() {
		f.Since = at.Format(time.RFC3339)
	}
	if doors := server.Doors(found); len(doors) == len(found) {
		driftShares(d, f, s, found)
	}
	for _, x := range trees {
		if !hasTree(d, s, x) {
			f.note(DriftLine{Where: place.Address{Server: s.Name, Path: x.Folder}.String(), What: "not-scanned"})
			continue
		}
		d.Doing("comparing " + x.Share)
		err := compare(d, s, x, func(c compared) error {
			var l DriftLine
			if c.row != nil && c.row.Facts.Changed != 0 {
				l.Changed = time.Unix(c.row.Facts.Changed, 0).UTC().Format(time.RFC3339)
			}
			switch {
			case c.row == nil:
				l.What = "went"
			case c.known == nil && c.in == 0: // what is in something new is new
				return nil
			case c.known == nil:
				l.What = "came"
			default:
				have := d.T.Of(c.known.Strand)
				now := as(have, x.Tree.Bodies[c.row.Body])
				if now == have {
					f.Alike++
					return nil
				}
				l.What, l.Lines = "rules", d.Diff(have, now, c.folder, nil, nil)
			}
			l.Where = place.Address{Server: s.Name, Path: x.Folder}.String()
			if path := c.path(); path != "" {
				l.Where = place.Address{Server: s.Name, Path: place.Join(x.Folder, path)}.String()
			}
			f.note(l)
			return nil
		})
		if err != nil {
			return nil, err
		}
	}
	return f, d.T.Err()
}

func driftShares(d *plan.Planner, f *Drift, s estate.Server, found []server.Share) {
	have := d.T.Shares(s)
	for _, x := range found {
		where := place.Address{Server: s.Name, Share: x.Name}.String()
		i := slices.IndexFunc(have, func(o estate.Share) bool { return plan.SameKey(o.Name, x.Name) })
		switch {
		case i < 0:
			f.note(DriftLine{Where: where, What: "share-came"})
		case have[i].Folder != x.Folder:
			f.note(DriftLine{Where: where, What: "share-folder", Lines: []edit.Line{{Sign: edit.Comes, What: "folder", Text: x.Folder}, {Sign: edit.Goes, What: "folder", Text: have[i].Folder}}})
		case x.Told && have[i].ReadOnly != x.ReadOnly:
			sign := edit.Goes
			if x.ReadOnly {
				sign = edit.Comes
			}
			f.note(DriftLine{Where: where, What: "share-switch", Lines: []edit.Line{{Sign: sign, What: "read-only"}}})
		default:
			if now := as(have[i].Descriptor, x.Rules); now != have[i].Descriptor {
				f.note(DriftLine{Where: where, What: "share-rules", Lines: d.Diff(have[i].Descriptor, now, false, nil, nil)})
			}
		}
	}
	for _, sh := range have {
		if !slices.ContainsFunc(found, func(x server.Share) bool { return plan.SameKey(x.Name, sh.Name) }) {
			f.note(DriftLine{Where: sh.Address(), What: "share-went"})
		}
	}
}
