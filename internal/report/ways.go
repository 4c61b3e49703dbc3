package report

import (
	"strings"

	"tarnwold/internal/ask"
)

// reasoned says why in one line, with where it is set.
func reasoned(r *ask.Reason, server string, share bool) string {
	if r == nil {
		return ""
	}
	why, set := Because(r, server, share)
	if r.By == "entry" && set != "" {
		why += ", set on " + set
	} else if set != "" && r.By == "above" {
		why += ", set on " + set
	}
	if len(r.Chain) > 1 {
		why += ", by " + strings.Join(r.Chain, " → ")
	}
	return why
}

func RouteSays(route string) string {
	if route == "local" {
		return "at the server itself"
	}
	return "through " + route
}

// nest tells of places that come in the order of a tree which stands below which.
type nest struct{ open [][]string }

// put gives how deep a place stands, and its name below the one it stands in;
// "" where it stands in none.
func (n *nest) put(parts []string, folder bool) (depth int, name string) {
	for len(n.open) > 0 && !under(parts, n.open[len(n.open)-1]) {
		n.open = n.open[:len(n.open)-1]
	}
	if depth = len(n.open); depth > 0 {
		name = strings.Join(parts[len(n.open[depth-1]):], "/")
	}
	if folder {
		n.open = append(n.open, parts)
	}
	return depth, name
}
