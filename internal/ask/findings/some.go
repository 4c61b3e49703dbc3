package findings

import (
	"slices"

	"tarnwold/core/crowd"
)

// some is a set of users that nobody changes: in a list where they are few, as they are
// where each home is its owner's, and else as bits.
type some struct {
	few  []int32 // in order; nil: bits has them
	bits crowd.Bits
	n    int
}

// fewOf is how many users there are to one that is listed: a number takes as much room
// as so many bits.
const fewOf = 32

// someOf makes a set of bits, which it keeps where they are many.
func someOf(b crowd.Bits) *some {
	s := &some{n: b.Len()}
	if s.n*fewOf >= 64*len(b) {
		s.bits = b
		return s
	}
	s.few = make([]int32, 0, s.n)
	b.Each(func(u int) bool {
		s.few = append(s.few, int32(u))
		return true
	})
	return s
}

func (s *some) len() int { return s.n }

func (s *some) has(u int) bool {
	if s.bits != nil {
		return s.bits.Has(u)
	}
	_, ok := slices.BinarySearch(s.few, int32(u))
	return ok
}

func (s *some) each(fn func(u int)) {
	for _, u := range s.few {
		fn(int(u))
	}
	s.bits.Each(func(u int) bool {
		fn(u)
		return true
	})
}

// and gives those who are in both.
func (s *some) and(o *some) *some {
	if s.bits != nil && o.bits != nil {
		return someOf(s.bits.And(o.bits))
	}
	if s.bits != nil {
		s, o = o, s
	}
	out := &some{few: []int32{}}
	for _, u := range s.few {
		if o.has(int(u)) {
			out.few = append(out.few, u)
		}
	}
	out.n = len(out.few)
	return out
}

// with gives those that are in either of two lists in order.
func with(a, b []int32) []int32 {
	if len(b) == 0 {
		return a
	}
	out := make([]int32, 0, max(len(a), len(b)))
	for len(a) > 0 && len(b) > 0 {
		switch {
		case a[0] < b[0]:
			out, a = append(out, a[0]), a[1:]
		case a[0] > b[0]:
			out, b = append(out, b[0]), b[1:]
		default:
			out, a, b = append(out, a[0]), a[1:], b[1:]
		}
	}
	return append(append(out, a...), b...)
}
