package estate

import (
	"testing"

	"github.com/stretchr/testify/require"
)

// laidSample is a layout of a folder and two homes.
func laidSample() *layout {
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
	l := laidSample()
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
	round := laidSample()
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
		o := laidSample()
		change(o)
		require.False(t, o.same(l))
	}
}

func FuzzDecodeLayout(f *testing.F) {
	f.Add(laidSample().encode())
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
