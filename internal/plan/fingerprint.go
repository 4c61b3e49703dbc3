package plan

import (
	"encoding/binary"
	"errors"
	"fmt"

	"tarnwold/internal/estate"
)

// Fingerprint is what files of people told, so that the very same, told again, needs
// no reading: of the last ones that were taken in, the estate remembers it.
type Fingerprint struct {
	Sum   [32]byte // over the files, and over how they are read
	Size  int64    // bytes of the files
	Until int64    // when somebody there expires next, who can sign on now: seconds since 1970; 0: nobody does
	Head  int64    // the journal's last change once they were taken in
}

const tellingMark = "told"

func (x *Fingerprint) sums() (out [4]int64) {
	for i := range out {
		out[i] = int64(binary.LittleEndian.Uint64(x.Sum[8*i:]))
	}
	return out
}

// Remember writes it down; it is not a change of the estate.
func (x *Fingerprint) Remember(t *estate.Tx) error {
	for i, n := range x.sums() {
		t.Mark(fmt.Sprint(tellingMark, " ", i), n)
	}
	t.Mark(tellingMark+" size", x.Size)
	t.Mark(tellingMark+" until", x.Until)
	t.Mark(tellingMark+" head", x.Head)
	return t.Err()
}

// LastFingerprint gives what files of people told last; its Size is 0 where there
// were none.
func LastFingerprint(t *estate.Tx) *Fingerprint {
	x := &Fingerprint{Size: t.Marked(tellingMark + " size"), Until: t.Marked(tellingMark + " until"), Head: t.Marked(tellingMark + " head")}
	for i := range 4 {
		binary.LittleEndian.PutUint64(x.Sum[8*i:], uint64(t.Marked(fmt.Sprint(tellingMark, " ", i))))
	}
	return x
}

// Holds tells whether all of it is still so at a time: nobody has expired since,
// and no account, no membership and nothing that is written down of them was
// changed.
func (x *Fingerprint) Holds(t *estate.Tx, now int64) bool {
	return x.Size > 0 && (x.Until == 0 || now < x.Until) && !t.TouchedSince(x.Head, "accounts", "members", "papers")
}

// ErrToldNoMore is that what files told last isn't so any more.
var ErrToldNoMore = errors.New("what was told last isn't so any more")
