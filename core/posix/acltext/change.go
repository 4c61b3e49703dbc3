package acltext

import (
	"fmt"
	"strings"

	"tarnwold/core/posix"
)

// Change is what is to become of a mode: a mode of its own, or clauses as
// IEEE Std 1003.1 has them for symbolic modes (u+x,go-w,+t, g=u), where a clause
// without a class is for all three, and X is execute on folders and on what has
// some already.
type Change struct {
	whole   bool
	mode    uint16
	clauses []clause
}

type clause struct {
	classes uint16 // bits of the classes meant: 0700, 0070, 0007
	all     bool   // none was named
	acts    []act
}

type act struct {
	op    byte
	perms string
}

// ParseChange reads a change of a mode.
func ParseChange(s string) (*Change, error) {
	if m, err := ParseMode(s); err == nil {
		return &Change{whole: true, mode: m}, nil
	}
	c := &Change{}
	bad := fmt.Errorf("%q is not a mode: say it in octal (2770), in letters (rwxrws---), or as a change (g+w, o=, +t)", clip(s))
	for _, part := range strings.Split(s, ",") {
		var x clause
		i := 0
		for ; i < len(part) && strings.IndexByte("ugoa", part[i]) >= 0; i++ {
			x.classes |= map[byte]uint16{'u': 0o700, 'g': 0o070, 'o': 0o007, 'a': 0o777}[part[i]]
		}
		if x.classes == 0 {
			x.classes, x.all = 0o777, true
		}
		if i == len(part) {
			return nil, bad
		}
		for i < len(part) {
			a := act{op: part[i]}
			if strings.IndexByte("+-=", a.op) < 0 {
				return nil, bad
			}
			i++
			for ; i < len(part) && strings.IndexByte("rwxXstugo", part[i]) >= 0; i++ {
				a.perms += string(part[i])
			}
			if strings.ContainsAny(a.perms, "ugo") && len(a.perms) > 1 {
				return nil, bad
			}
			x.acts = append(x.acts, a)
		}
		c.clauses = append(c.clauses, x)
	}
	return c, nil
}

// Of gives the mode an item has afterwards.
func (c *Change) Of(mode uint16, folder bool) uint16 {
	if c.whole {
		return c.mode
	}
	for _, x := range c.clauses {
		for _, a := range x.acts {
			bits, special := uint16(0), uint16(0)
			for _, p := range a.perms {
				switch p {
				case 'r':
					bits |= 0o444
				case 'w':
					bits |= 0o222
				case 'x':
					bits |= 0o111
				case 'X':
					if folder || mode&0o111 != 0 {
						bits |= 0o111
					}
				case 's':
					if x.classes&0o700 != 0 {
						special |= posix.SetUID
					}
					if x.classes&0o070 != 0 {
						special |= posix.SetGID
					}
				case 't':
					special |= posix.Sticky
				case 'u':
					bits |= mode >> 6 & 7 * 0o111
				case 'g':
					bits |= mode >> 3 & 7 * 0o111
				case 'o':
					bits |= mode & 7 * 0o111
				}
			}
			bits &= x.classes
			switch a.op {
			case '+':
				mode |= bits | special
			case '-':
				mode &^= bits | special
			case '=':
				mode = mode&^x.classes | bits
				if !folder || special != 0 { // a folder's set-gid stays unless it is named
					if x.classes&0o700 != 0 {
						mode &^= posix.SetUID
					}
					if x.classes&0o070 != 0 {
						mode &^= posix.SetGID
					}
				}
				if x.all || special&posix.Sticky != 0 {
					mode &^= posix.Sticky
				}
				mode |= special
			}
		}
	}
	return mode
}

// Plain tells whether the change gives a mode of its own, whatever was there.
func (c *Change) Plain() bool { return c.whole }

// ParseEntry reads one entry of a list; dflt tells whether it is of the default list.
func ParseEntry(s string, names Names) (e posix.Entry, dflt bool, err error) {
	s = strings.TrimSpace(s)
	for _, d := range []string{"default:", "d:"} {
		if rest, ok := strings.CutPrefix(s, d); ok {
			s, dflt = rest, true
			break
		}
	}
	e, err = entry(s, names)
	return e, dflt, err
}
