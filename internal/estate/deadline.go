package estate

import (
	"database/sql"
	"fmt"

	"tarnwold/core/account"
	"tarnwold/core/rule"
)

// Descriptors know no last day, so that of an entry is kept beside: by the
// item or share, and the whole entry.

// EntryKey writes an entry so that its last day is found by it.
func EntryKey(e rule.Entry) string {
	return fmt.Sprintf("%d %d %d %s", e.Kind, e.Flags, e.Rights, e.Who)
}

// entryKeys lists the keys of a stored descriptor's own entries.
func entryKeys(body []byte) (keys []string) {
	a, err := Decode(KindSecurity, body)
	if err != nil {
		return nil
	}
	d := a.Listed()
	for _, e := range append(d.Rules.Own(), d.Audit.Own()...) {
		keys = append(keys, EntryKey(e))
	}
	return keys
}

// Dated is the last days of a list's own entries.
type Dated map[rule.Entry]Day

// Bearer is what has entries with last days: an item or a share.
type Bearer struct{ Item, Share int64 }

// Dated gives the last day of each own entry of an item or share that has one.
func (t *Tx) Dated(b Bearer, of rule.Any) Dated {
	var out Dated
	d := of.Listed()
	t.Each("SELECT entry, until FROM deadlines WHERE item=? AND share=?", []any{b.Item, b.Share}, func(r *sql.Rows) error {
		var k string
		var u Day
		err := r.Scan(&k, &u)
		for _, e := range d.Rules.Entries {
			if e.Own() && EntryKey(e) == k {
				if out == nil {
					out = Dated{}
				}
				out[e] = u
			}
		}
		return err
	})
	return out
}

// HasDates tells whether anything of a transaction's estate has a last day, so
// that most commands needn't ask item by item.
func (t *Tx) HasDates() bool {
	return t.Int("SELECT count(*) FROM (SELECT 1 FROM deadlines LIMIT 1)") > 0
}

// WithDates lists the items that have entries with last days.
func (t *Tx) WithDates() map[int64]bool {
	out := map[int64]bool{}
	for _, id := range t.Ints("SELECT DISTINCT item FROM deadlines WHERE item<>0") {
		out[id] = true
	}
	return out
}

// SetDated makes the last days of an item or share just these.
func (t *Tx) SetDated(b Bearer, days Dated) {
	want := map[string]Day{}
	for e, u := range days {
		want[EntryKey(e)] = u
	}
	have := map[string]Day{}
	t.Each("SELECT entry, until FROM deadlines WHERE item=? AND share=?", []any{b.Item, b.Share}, func(r *sql.Rows) error {
		var k string
		var u Day
		err := r.Scan(&k, &u)
		have[k] = u
		return err
	})
	for k := range have {
		if _, ok := want[k]; !ok {
			t.Exec("DELETE FROM deadlines WHERE item=? AND share=? AND entry=?", b.Item, b.Share, k)
		}
	}
	for k, u := range want {
		if old, ok := have[k]; !ok {
			t.Exec("INSERT INTO deadlines(item, share, entry, until) VALUES(?,?,?,?)", b.Item, b.Share, k, u)
		} else if old != u {
			t.Exec("UPDATE deadlines SET until=? WHERE item=? AND share=? AND entry=?", u, b.Item, b.Share, k)
		}
	}
}

// OverMember is a membership whose last day is past.
type OverMember struct {
	Group, Member account.Account
	Is            Membership
}

// Overdue lists what was to end before a day: the items and shares that have
// such entries, and memberships.
func (t *Tx) Overdue(day Day) (bearers []Bearer, members []OverMember) {
	t.Each(`SELECT DISTINCT d.item, d.share FROM deadlines d LEFT JOIN items i ON i.id=d.item LEFT JOIN shares s ON s.id=d.share
		WHERE d.until<? AND (i.id IS NOT NULL OR s.id IS NOT NULL) ORDER BY d.item, d.share`, []any{day}, func(r *sql.Rows) error {
		var b Bearer
		err := r.Scan(&b.Item, &b.Share)
		bearers = append(bearers, b)
		return err
	})
	type pair struct {
		g, m int64
		is   Membership
	}
	var pairs []pair
	t.Each("SELECT holder, member, until, local FROM members WHERE until<>'' AND until<? ORDER BY +id", []any{day}, func(r *sql.Rows) error {
		var x pair
		err := r.Scan(&x.g, &x.m, &x.is.Until, &x.is.Local)
		pairs = append(pairs, x)
		return err
	})
	for _, x := range pairs {
		g, m := t.accountByRow(x.g), t.accountByRow(x.m)
		if g != nil && m != nil {
			members = append(members, OverMember{g.Account, m.Account, x.is})
		}
	}
	return bearers, members
}
