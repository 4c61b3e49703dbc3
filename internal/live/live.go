// Package live joins an estate to the real servers it is linked to: it reads
// what they have (scan), looks at single places now, writes plans out to them,
// and proves answers by trying. It speaks no protocol itself (package server),
// decides nothing (ask, plan, core) and prints nothing.
package live

import (
	"fmt"
	"slices"

	"tarnwold/core/place"
	"tarnwold/internal/estate"
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

// Way finds a share by which a path of the server is reached, and what is left
// of the path within it: that of the nearest folder above.
func Way(shares []estate.Share, path string) (share, rest string, err error) {
	best := -1
	for i := range shares {
		if shares[i].Covers(path) && (best < 0 || len(shares[i].Folder) > len(shares[best].Folder)) {
			best = i
		}
	}
	if best < 0 {
		return "", "", fmt.Errorf("no share of the server leads to %s", path)
	}
	rest, _ = shares[best].Cut(path)
	return shares[best].Name, rest, nil
}
