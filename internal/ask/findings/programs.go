package findings

import (
	"strings"

	"tarnwold/core/posix"
)

// runsAs: programs that run as their owner or group whoever starts them, and that others
// than these may write.
func (x *finding) runsAs() error {
	for _, d := range x.by.order {
		r := x.posix[d]
		if r == nil || r.Folder || r.Mode()&0o111 == 0 {
			continue
		}
		var as []string
		if r.Special&posix.SetUID != 0 && r.Access.Bits()&0o022 != 0 {
			as = append(as, "owner "+x.k.T.Name(r.Owner))
		}
		if r.Special&posix.SetGID != 0 && (r.Access.Bits()&0o002 != 0 || r.Access.Extended() && r.Access.Bits()&0o020 != 0) {
			as = append(as, "group "+x.k.T.Name(r.Group))
		}
		if len(as) == 0 {
			continue
		}
		f := x.place(x.by.nodes[d])
		f.Who, f.What = x.k.T.Name(r.Owner), strings.Join(as, " and ")
		f.Commands = [][]string{plainly([]string{"tarnwold", "mode", f.Where, "--set", "g-w,o-w"})}
		x.add(f)
	}
	return nil
}
