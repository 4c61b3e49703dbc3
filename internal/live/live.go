// Package live joins an estate to the real servers it is linked to: it reads
// what they have (scan), looks at single places now, writes plans out to them,
// and proves answers by trying. It speaks no protocol itself (package server),
// decides nothing (ask, plan, core) and prints nothing.
package live

import (
	"slices"

	"tarnwold/core/place"
	"tarnwold/internal/server"
)

// Topmost lists shares by folder, each folder once and none that is below
// another's.
func Topmost(shares []server.Share) (out []server.Share) {
	for _, x := range shares {
		if !slices.ContainsFunc(shares, func(o server.Share) bool { return o.Folder != x.Folder && place.Under(x.Folder, o.Folder) }) &&
			!slices.ContainsFunc(out, func(o server.Share) bool { return o.Folder == x.Folder }) {
			out = append(out, x)
		}
	}
	return out
}
