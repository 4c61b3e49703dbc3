package posix

import "tarnwold/core/right"

// Nothing tells whether granted rights open nothing worth a name: whoever gets
// to an item sees what it is and reads its list.
func Nothing(s right.Set) bool { return s&right.Access&^everyones == 0 }

// Level names granted rights for a reader: the level they come to and the
// permissions, "edit rw-", "read r-x as owner".
func Level(s right.Set, folder bool) string {
	if Nothing(s) {
		return "nothing"
	}
	if s&right.WriteOwner != 0 { // root
		return "full"
	}
	var p Perm
	for _, x := range []struct {
		right right.Set
		bit   Perm
	}{{right.ReadData, R}, {right.WriteNamedAttrs, W}, {right.Execute, X}} {
		if s&x.right != 0 {
			p |= x.bit
		}
	}
	word, takesOut := "", false
	switch {
	case folder && p == R|W|X && s&right.DeleteChild == 0:
		word = "add"
	case folder && p == R|W|X:
		word, takesOut = "edit", true
	case folder && p == R|X, !folder && p&(R|W) == R:
		word = "read"
	case folder && p == W|X:
		word = "drop"
	case folder && p == X:
		word = "pass"
	case !folder && p&(R|W) == R|W && s&right.Delete == 0:
		word = "revise"
	case !folder && p&(R|W) == R|W:
		word, takesOut = "edit", true
	}
	out := p.String()
	if word != "" {
		out = word + " " + out
	}
	if s&right.Delete != 0 && !takesOut {
		out += " + delete"
	}
	if s&right.WriteACL != 0 {
		out += " as owner"
	}
	return out
}
