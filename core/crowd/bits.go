package crowd

import (
	"math/bits"
	"slices"
)

// Bits is a set of users by their place in a Population. A nil Bits is empty.
type Bits []uint64

// Has tells whether a user is in the set.
func (b Bits) Has(i int) bool { return b != nil && b[i>>6]>>(i&63)&1 != 0 }

// Len counts the users.
func (b Bits) Len() (n int) {
	for _, w := range b {
		n += bits.OnesCount64(w)
	}
	return n
}

// Each calls fn with each user's place, in order, until it returns false.
func (b Bits) Each(fn func(i int) bool) {
	for k, w := range b {
		for ; w != 0; w &= w - 1 {
			if !fn(k<<6 + bits.TrailingZeros64(w)) {
				return
			}
		}
	}
}

// Set puts a user in.
func (b Bits) Set(i int) { b[i>>6] |= 1 << (i & 63) }

// Or adds another set to b.
func (b Bits) Or(o Bits) {
	for k, w := range o {
		b[k] |= w
	}
}

// OrDifference adds to b what is in just one of two sets.
func (b Bits) OrDifference(x, y Bits) {
	for k := range b {
		b[k] |= x.Word(k) ^ y.Word(k)
	}
}

// And gives what is in both sets.
func (b Bits) And(o Bits) Bits {
	out := make(Bits, len(b))
	for k := range out {
		out[k] = b[k] & o.Word(k)
	}
	return out
}

// narrow leaves in b what is in another set too.
func (b Bits) narrow(o Bits) {
	for k := range b {
		b[k] &= o.Word(k)
	}
}

// Minus gives what is in b and not in another set.
func (b Bits) Minus(o Bits) Bits { return slices.Clone(b).without(o) }

// without takes another set out of b, and gives b.
func (b Bits) without(o Bits) Bits {
	for k := range o {
		b[k] &^= o[k]
	}
	return b
}

// Word gives the k-th 64 users.
func (b Bits) Word(k int) uint64 {
	if b == nil {
		return 0
	}
	return b[k]
}
