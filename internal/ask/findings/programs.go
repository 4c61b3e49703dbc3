package findings

import (
	"strings"

	"tarnwold/core/account"
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

// asRoot: programs that run as root whoever starts them, in folders that are shared.
func (x *finding) asRoot() error {
	for _, d := range x.by.order {
		r := x.posix[d]
		if r == nil || r.Folder || r.Mode()&0o111 == 0 || r.Special&posix.SetUID == 0 || !x.root(d.Owner) {
			continue
		}
		f := x.place(x.by.nodes[d])
		f.Who = x.k.T.Name(d.Owner)
		f.Commands = [][]string{plainly([]string{"tarnwold", "mode", f.Where, "--set", "u-s"})}
		x.add(f)
	}
	return nil
}

// root tells whether an account is the one that passes rules on POSIX systems.
func (x *finding) root(id account.ID) bool {
	if n, user, ok := id.POSIX(); ok {
		return user && n == 0
	}
	a, ok := x.dir.Account(id)
	return ok && a.Kind == account.User && a.POSIX == 0
}
