package estate

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// layoutSample is a layout of a folder and two homes.
func layoutSample() *layout {
	l := &layout{
		names:  [][]byte{{1, 1, 0, 0, 0, 0, 0, 1, 0, 0, 0, 0}, {1, 1, 0, 0, 0, 0, 0, 5, 18, 0, 0, 0}},
		shapes: []string{"\x01top", "\x01home"},
		forms:  []form{{descriptor: 3, shape: 0, from: 0, count: 1}, {descriptor: 9, shape: 1, from: 1, count: 2}},
		who:    []int32{0, 1, 0},
		strands: []strandAt{{id: 4, items: 1, parent: -1, form: 0, folder: true}, {id: 7, items: 5, parent: 0, form: 1},
			{id: 8, items: 1, parent: 0, form: 1, folder: true}},
	}
	if err := l.hang(); err != nil {
		panic(err)
	}
	return l
}

func TestLayoutAsBytes(t *testing.T) {
	l := layoutSample()
	b := l.encode()
	got, err := decodeLayout(b)
	require.NoError(t, err)
	require.True(t, got.same(l))
	require.Equal(t, l.kids, got.kids)
	for cut := range b { // what ends early is refused
		_, err := decodeLayout(b[:cut])
		require.Error(t, err, cut)
	}
	_, err = decodeLayout(append(b, 0))
	require.Error(t, err)
	round := layoutSample()
	round.strands[0].parent = 2
	_, err = decodeLayout(round.encode())
	require.Error(t, err, "below itself")
	for _, change := range []func(*layout){
		func(l *layout) { l.strands[1].items++ },
		func(l *layout) { l.strands[1].folder = true },
		func(l *layout) { l.strands[1].parent = 2 },
		func(l *layout) { l.strands[1].form = 0 },
		func(l *layout) { l.strands[1].id = 6 },
		func(l *layout) { l.who[1] = 0 },
		func(l *layout) { l.shapes[1] = "\x01other" },
	} {
		o := layoutSample()
		change(o)
		require.False(t, o.same(l))
	}
}

func FuzzDecodeLayout(f *testing.F) {
	f.Add(layoutSample().encode())
	f.Fuzz(func(t *testing.T, b []byte) {
		l, err := decodeLayout(b)
		if err != nil {
			return
		}
		again, err := decodeLayout(l.encode())
		require.NoError(t, err)
		require.True(t, again.same(l))
	})
}

// What can't be read of the index stops nobody: answers come from the rows, and check
// says so. What doesn't match the rows, check says too.
func TestABadIndexIsPassedOver(t *testing.T) {
	from := LayoutFrom
	LayoutFrom = 0
	defer func() { LayoutFrom = from }()
	e := newEstate(t)
	load(t, e, made(200, 7))
	look := func(want string) {
		require.NoError(t, e.View(t.Context(), func(tx *Tx) error {
			rows, err := tx.readLayout()
			require.NoError(t, err)
			l, err := tx.layout()
			require.NoError(t, err)
			require.Equal(t, want == "" || strings.Contains(want, "can't be read"), l.same(rows))
			faults := tx.Check(func(string) {})
			if want == "" {
				require.Empty(t, faults)
				return nil
			}
			require.Len(t, faults, 1)
			require.Contains(t, faults[0].What, want)
			return nil
		}))
	}
	damage := func(with func(tx *Tx)) {
		require.NoError(t, e.Note(t.Context(), func(tx *Tx) error {
			with(tx)
			return tx.Err()
		}))
	}
	look("")
	damage(func(tx *Tx) {
		l, err := tx.readLayout()
		require.NoError(t, err)
		l.strands[len(l.strands)-1].items++
		tx.Exec("UPDATE layouts SET body=? WHERE id=1", l.encode())
	})
	look("doesn't match the rows")
	damage(func(tx *Tx) { tx.Exec("UPDATE layouts SET body=? WHERE id=1", []byte("bent")) })
	look("can't be read")
}
