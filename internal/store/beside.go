package store

import "context"

// head is the number of the last change, 0 for none: two transactions that have the same
// see the same accounts, rules and items.
const head = "SELECT coalesce(max(id),0) FROM journal"

// Beside runs fn in a transaction of its own, on a connection of its own, beside whatever
// this one is asked meanwhile; wait waits until it is done. Where another connection doesn't
// see the same, since this is an estate in memory or one that is being changed, or somebody
// changed it in between, and where another can't be had, wait runs fn anew with this one.
func (t *Tx) Beside(fn func(*Tx)) (wait func()) {
	if t.db.private != 0 || t.change != 0 || t.db.old != 0 || t.err != nil {
		return func() { fn(t) }
	}
	at, done := t.Int(head), make(chan bool, 1)
	go func() {
		same := false
		err := beside(t.ctx, t.db, func(b *Tx) {
			if same = b.Int(head) == at; same {
				fn(b)
			}
		})
		done <- same && err == nil
	}()
	return func() {
		if !<-done {
			fn(t)
		}
	}
}

func beside(ctx context.Context, of *DB, fn func(*Tx)) error {
	d := newDB(open(of.path, "&mode=ro"), of.path)
	d.keys = of.keys
	defer d.db.Close()
	defer d.hangUp()
	return d.run(ctx, "BEGIN", false, func(b *Tx) error {
		fn(b)
		return b.err
	})
}
