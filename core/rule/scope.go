package rule

import (
	"fmt"
	"strings"
)

// Scope says which of the folder itself, its subfolders and its files an
// entry covers, and whether only in the first layer below.
type Scope uint8

const (
	Here Scope = 1 << iota
	Folders
	Files
	Once // the first layer only

	Below = Folders | Files
	Tree  = Here | Below
)

// ParseScope reads here, folders, files joined by +, or tree, or below;
// " once" may follow.
func ParseScope(s string) (Scope, error) {
	var sc Scope
	words := strings.Fields(strings.ToLower(s))
	if len(words) == 2 && words[1] == "once" {
		sc = Once
		words = words[:1]
	}
	if len(words) != 1 {
		return 0, fmt.Errorf("%q is not a scope: here, folders, files joined by +, or tree, or below; once may follow", s)
	}
	for _, w := range strings.Split(words[0], "+") {
		switch w {
		case "here":
			sc |= Here
		case "folders":
			sc |= Folders
		case "files":
			sc |= Files
		case "below":
			sc |= Below
		case "tree":
			sc |= Tree
		default:
			return 0, fmt.Errorf("%q is not a scope: here, folders, files, tree or below", w)
		}
	}
	if sc&Below == 0 {
		sc &^= Once
	}
	return sc, nil
}

// String writes the scope so that ParseScope reads it; "nowhere" for none.
func (s Scope) String() string {
	var out string
	switch s &^ Once {
	case 0:
		out = "nowhere"
	case Tree:
		out = "tree"
	case Below:
		out = "below"
	default:
		var parts []string
		for _, p := range []struct {
			bit  Scope
			name string
		}{{Here, "here"}, {Folders, "folders"}, {Files, "files"}} {
			if s&p.bit != 0 {
				parts = append(parts, p.name)
			}
		}
		out = strings.Join(parts, "+")
	}
	if s&Once != 0 {
		out += " once"
	}
	return out
}

// Flags gives the entry flags of the scope, [MS-DTYP] §2.4.4.1.
func (s Scope) Flags() Flags {
	var f Flags
	if s&Here == 0 {
		f |= InheritOnly
	}
	if s&Folders != 0 {
		f |= ContainerInherit
	}
	if s&Files != 0 {
		f |= ObjectInherit
	}
	if s&Once != 0 && s&Below != 0 {
		f |= NoPropagate
	}
	return f
}

// Scope gives the scope that entry flags stand for.
func (f Flags) Scope() Scope {
	var s Scope
	if f&InheritOnly == 0 {
		s |= Here
	}
	if f&ContainerInherit != 0 {
		s |= Folders
	}
	if f&ObjectInherit != 0 {
		s |= Files
	}
	if f&NoPropagate != 0 {
		s |= Once
	}
	return s
}
