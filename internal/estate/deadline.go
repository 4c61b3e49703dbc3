package estate

import (
	"database/sql"
	"fmt"

	"tarnwold/core/account"
	"tarnwold/core/rule"
)

// Descriptors know no last day, so that of an entry is kept beside: by the
// item or share, and the entry's kind, flags and account.

func entryKey(e rule.Entry) string { return fmt.Sprintf("%d %d %s", e.Kind, e.Flags, e.Who) }

// SetDeadline says until when own entries of an item stand; "" takes the day off.
func (t *Tx) SetDeadline(item int64, entries []rule.Entry, until string) {
	for _, e := range entries {
		t.exec("DELETE FROM deadlines WHERE item=? AND entry=?", item, entryKey(e))
		if until != "" {
			t.exec("INSERT INTO deadlines(item, share, entry, until) VALUES(?,0,?,?)", item, entryKey(e), until)
		}
	}
}

// Deadlines gives the last day of each own entry of an item that has one.
func (t *Tx) Deadlines(item int64, d *rule.Descriptor) map[rule.Entry]string {
	days := map[string]string{}
	t.each("SELECT entry, until FROM deadlines WHERE item=?", []any{item}, func(r *sql.Rows) error {
		var k, u string
		err := r.Scan(&k, &u)
		days[k] = u
		return err
	})
	out := map[rule.Entry]string{}
	for _, e := range d.Rules.Entries {
		if u, ok := days[entryKey(e)]; ok && e.Own() {
			out[e] = u
		}
	}
	return out
}

// PruneDeadlines forgets the days of entries an item no longer has.
func (t *Tx) PruneDeadlines(item int64, d *rule.Descriptor) {
	if t.int("SELECT count(*) FROM deadlines WHERE item=?", item) == 0 {
		return
	}
	stand := map[string]bool{}
	for _, e := range d.Rules.Entries {
		stand[entryKey(e)] = e.Own()
	}
	for _, k := range t.strings("SELECT entry FROM deadlines WHERE item=?", item) {
		if !stand[k] {
			t.exec("DELETE FROM deadlines WHERE item=? AND entry=?", item, k)
		}
	}
}

// Over is an entry or a membership whose last day is past.
type Over struct {
	Item   int64 // 0: a membership
	Entry  rule.Entry
	Group  account.Account
	Member account.Account
	Until  string
}

// Overdue lists what was to end before a day.
func (t *Tx) Overdue(day string) (out []Over) {
	type pair struct {
		item int64
		key  string
		day  string
	}
	var entries []pair
	t.each("SELECT item, entry, until FROM deadlines WHERE until<? ORDER BY id", []any{day}, func(r *sql.Rows) error {
		var p pair
		err := r.Scan(&p.item, &p.key, &p.day)
		entries = append(entries, p)
		return err
	})
	for _, p := range entries {
		for _, e := range t.Of(t.int("SELECT strand FROM items WHERE id=?", p.item)).Rules.Entries {
			if e.Own() && entryKey(e) == p.key {
				out = append(out, Over{Item: p.item, Entry: e, Until: p.day})
			}
		}
	}
	type member struct {
		g, m int64
		day  string
	}
	var members []member
	t.each("SELECT holder, member, until FROM members WHERE until<>'' AND until<? ORDER BY id", []any{day}, func(r *sql.Rows) error {
		var x member
		err := r.Scan(&x.g, &x.m, &x.day)
		members = append(members, x)
		return err
	})
	for _, x := range members {
		o := Over{Until: x.day}
		for id, to := range map[int64]*account.Account{x.g: &o.Group, x.m: &o.Member} {
			t.each("SELECT "+accountColumns+" FROM accounts WHERE id=?", []any{id}, func(r *sql.Rows) error {
				a, err := scanAccount(r)
				if err == nil {
					*to = a.Account
				}
				return err
			})
		}
		out = append(out, o)
	}
	return out
}
