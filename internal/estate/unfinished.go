package estate

import (
	"context"

	"tarnwold/internal/store"
)

// A change that goes to a real server is put down here, whole, before anything
// is written there. While it stands the estate takes no other change: what is
// on the server is between two states, and only finishing it or taking it back
// makes that one again.

// Unfinished refuses a change while another is unfinished.
type Unfinished struct{}

func (Unfinished) Error() string {
	return "a change is being written to real servers or directories, or its writing was broken off, and the estate takes no other until it is finished; tarnwold resume --show says how far it came"
}

// Unfinished gives what was put down of an unfinished change; "": none is.
func (t *Tx) Unfinished() (body string) {
	if t.Knows("unfinished") {
		t.One("SELECT body FROM unfinished WHERE id=1", nil, &body)
	}
	return body
}

func (t *Tx) mayChange(private bool, finishes string) error {
	if private {
		return nil
	}
	if now := t.Unfinished(); now != finishes {
		if finishes != "" {
			return refuse("", "somebody else has finished the change, or taken it back, meanwhile")
		}
		return Unfinished{}
	}
	return t.Err()
}

// Begin puts down a change that is about to be written to a real server; head
// is the journal's last change it was worked out on.
func (e *Estate) Begin(ctx context.Context, head int64, body string) error {
	return e.db.Write(ctx, false, func(s *store.Tx) error {
		t := newTx(s)
		if now := t.Head(); t.Err() != nil {
			return t.Err()
		} else if now != head {
			return ErrMoved
		}
		if t.Unfinished() != "" {
			return Unfinished{}
		}
		t.Exec("INSERT INTO unfinished(id, body) VALUES(1,?)", body)
		return t.Err()
	})
}

// Finish keeps an unfinished change like Change does. fn writes to the server
// first; all the while nobody else can.
func (e *Estate) Finish(ctx context.Context, m Meta, body string, fn func(*Tx) (string, error)) (int64, error) {
	m.finishes = body
	return e.Change(ctx, m, func(t *Tx) (string, error) {
		summary, err := fn(t)
		t.Exec("DELETE FROM unfinished WHERE id=?", 1)
		return summary, err
	})
}

// Forget drops an unfinished change once fn has taken back what was written.
func (e *Estate) Forget(ctx context.Context, body string, fn func() error) error {
	return e.db.Write(ctx, false, func(s *store.Tx) error {
		t := newTx(s)
		if t.Unfinished() != body {
			return refuse("", "somebody else has finished the change, or taken it back, meanwhile")
		}
		if err := fn(); err != nil {
			return err
		}
		t.Exec("DELETE FROM unfinished WHERE id=?", 1)
		return t.Err()
	})
}
