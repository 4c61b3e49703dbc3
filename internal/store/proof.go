package store

import (
	"crypto/sha256"
	"database/sql"
	"encoding/binary"
	"encoding/hex"
	"hash"
	"strings"
)

// Each change carries a proof: the hash of the proof before it, of its own line
// in the journal and of every row it wrote down. So nothing of an earlier change
// can be altered, left out or put in between without every proof since being
// made anew; whoever keeps one proof elsewhere sees that.

const proofMark = "tarnwold journal 1"

// Proof is what one change carries.
type Proof struct {
	Change int64
	Hash   string // SHA-256, in hexadecimal
}

// summing hashes values so that no two lists of them are hashed alike.
type summing struct{ h hash.Hash }

func (s summing) text(v string) {
	var n [8]byte
	binary.LittleEndian.PutUint64(n[:], uint64(len(v)))
	s.h.Write(n[:])
	s.h.Write([]byte(v))
}

func (s summing) number(v int64) {
	var n [8]byte
	binary.LittleEndian.PutUint64(n[:], uint64(v))
	s.h.Write(n[:])
}

func (s summing) maybe(v sql.NullString) {
	if !v.Valid {
		s.h.Write([]byte{0})
		return
	}
	s.h.Write([]byte{1})
	s.text(v.String)
}

// proof works out a change's hash from the one before it.
func (t *Tx) proof(change int64, before []byte) ([]byte, bool) {
	s := summing{sha256.New()}
	s.text(proofMark)
	s.h.Write(before)
	var at, actor, command, summary, forced string
	var undoes int64
	if !t.One("SELECT at, actor, command, summary, forced, undoes FROM journal WHERE id=?", []any{change}, &at, &actor, &command, &summary, &forced, &undoes) {
		return nil, false
	}
	s.number(change)
	for _, v := range []string{at, actor, command, summary, forced} {
		s.text(v)
	}
	s.number(undoes)
	s.text(t.Origin(change))
	t.Each("SELECT tbl, row, last, before, after FROM journal_rows WHERE change=? ORDER BY id", []any{change}, func(r *sql.Rows) error {
		var table string
		var row, last int64
		var before, after sql.NullString
		err := r.Scan(&table, &row, &last, &before, &after)
		s.text(table)
		s.number(row)
		s.number(last)
		s.maybe(before)
		s.maybe(after)
		return err
	})
	return s.h.Sum(nil), t.err == nil
}

// Prove writes down where a change came from, and gives it its proof. All that
// it wrote down stands by then.
func (t *Tx) Prove(change int64, origin string) {
	t.Exec("INSERT INTO proofs(change, origin, hash) VALUES(?,?,x'')", change, origin)
	var before []byte
	t.One("SELECT hash FROM proofs WHERE change<? ORDER BY change DESC LIMIT 1", []any{change}, &before)
	if sum, ok := t.proof(change, before); ok {
		t.Exec("UPDATE proofs SET hash=? WHERE change=?", sum, change)
	}
}

// Origin says where a change came from; "" where that is nothing out of the way,
// or wasn't written down yet.
func (t *Tx) Origin(change int64) (origin string) {
	if t.Knows("proofs") {
		t.One("SELECT origin FROM proofs WHERE change=?", []any{change}, &origin)
	}
	return origin
}

// HeadProof gives the newest proof; ok is false where there is no change, or the
// file is of a time before there were proofs.
func (t *Tx) HeadProof() (p Proof, ok bool) {
	var sum []byte
	ok = t.Knows("proofs") && t.One("SELECT change, hash FROM proofs ORDER BY change DESC LIMIT 1", nil, &p.Change, &sum)
	p.Hash = hex.EncodeToString(sum)
	return p, ok
}

// ProofOf gives the change that a proof is of.
func (t *Tx) ProofOf(text string) (change int64, ok bool) {
	sum, err := hex.DecodeString(text)
	return change, err == nil && t.Knows("proofs") && t.One("SELECT change FROM proofs WHERE hash=?", []any{sum}, &change)
}

// Proven works every proof out again, and gives the changes whose proof isn't
// what it has to be. Of a file of before nothing is known.
func (t *Tx) Proven(wrong func(change int64, why string)) {
	if !t.Knows("proofs") {
		return
	}
	held := map[int64][]byte{}
	t.Each("SELECT change, hash FROM proofs", nil, func(r *sql.Rows) error {
		var change int64
		var sum []byte
		err := r.Scan(&change, &sum)
		held[change] = sum
		return err
	})
	var before []byte
	for _, change := range t.Ints("SELECT id FROM journal ORDER BY id") {
		have := held[change]
		delete(held, change)
		sum, ok := t.proof(change, before)
		switch {
		case !ok:
			return
		case have == nil:
			wrong(change, "has no proof")
		case string(sum) != string(have):
			wrong(change, "isn't what it was when it was kept, or one before it isn't")
		}
		if before = have; have == nil { // what comes after is held to what is there
			before = sum
		}
	}
	for change := range held {
		wrong(change, "is gone from the journal")
	}
}

// toVersion6: every change carries a proof, and says where it came from.
func toVersion6(t *Tx) error {
	if err := newTables(t, "proofs"); err != nil {
		return err
	}
	for _, change := range t.Ints("SELECT id FROM journal ORDER BY id") {
		if t.ctx.Err() != nil {
			return t.ctx.Err()
		}
		var summary, command string
		t.One("SELECT summary, command FROM journal WHERE id=?", []any{change}, &summary, &command)
		t.Prove(change, originOf(summary, command))
	}
	return t.Err()
}

// originOf tells of a change of before, when that was to be found in its words
// alone, which people it took in.
func originOf(summary, command string) string {
	rest, ok := strings.CutPrefix(summary, "people from directory ")
	name, _, said := strings.Cut(rest, ":")
	switch {
	case ok && said && strings.Contains(command, " sync "):
		return "directory " + name
	case strings.HasPrefix(summary, "people from ") && strings.Contains(command, " load "):
		return "people"
	}
	return ""
}
