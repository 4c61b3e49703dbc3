package rule

import (
	"slices"

	"tarnwold/core/account"
)

// Rewriting is what becomes of every mention of some accounts in rules.
type Rewriting struct {
	// Names are the identifiers that are meant.
	Names map[account.ID]bool
	// To takes their place; zero: entries that name them go.
	To account.ID
	// Beside: entries that name them stay, and the same for To comes beside each.
	Beside bool
	// Owner is who gets what they own; zero: owners and groups stay.
	Owner account.ID
}

// Mentions tells whether anything in d names one of the accounts.
func (w *Rewriting) Mentions(d *Descriptor) bool {
	return w.Names[d.Owner] || w.Names[d.Group] || slices.ContainsFunc(d.Rules.Entries, func(e Entry) bool { return w.Names[e.Who] }) ||
		slices.ContainsFunc(d.Audit.Entries, func(e Entry) bool { return w.Names[e.Who] })
}

// Of gives d rewritten: its own entries, and those from above that no folder
// above hands down any more; what parent (nil at the top) hands down is left
// to it. Where an entry becomes one that is there already it goes. It gives d
// itself where nothing changes, and says what became of each entry that stays.
func (w *Rewriting) Of(d, parent *Descriptor, folder bool) (*Descriptor, map[Entry]Entry) {
	if !w.Mentions(d) {
		return d, nil
	}
	c := d.Clone()
	if !w.Owner.IsZero() {
		if w.Names[d.Owner] {
			c.Owner = w.Owner
		}
		if w.Names[d.Group] {
			c.Group = w.Owner
		}
	}
	became := map[Entry]Entry{}
	var handed, handedAudit []Entry
	if parent != nil { // to the new owner: what an old one got as the creator is theirs no more
		handed, handedAudit = c.Inherits(parent, folder), c.inheritsAudit(parent, folder)
	}
	c.Rules.Entries = w.entries(d.Rules.Entries, handed, became)
	c.setAudit(w.entries(d.Audit.Entries, handedAudit, map[Entry]Entry{}))
	if c.Equal(d) {
		return d, nil
	}
	return c, became
}

func (w *Rewriting) entries(es, handed []Entry, became map[Entry]Entry) []Entry {
	out := make([]Entry, 0, len(es))
	for _, e := range es {
		if !w.Names[e.Who] || !e.Own() && slices.Contains(handed, e) {
			out = append(out, e)
			continue
		}
		if w.Beside {
			out = append(out, e)
		}
		if w.To.IsZero() {
			continue
		}
		n := e
		n.Who = w.To
		became[e] = n
		if !slices.Contains(es, n) && !slices.Contains(out, n) {
			out = append(out, n)
		}
	}
	return out
}
