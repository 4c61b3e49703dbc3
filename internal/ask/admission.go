package ask

import (
	"fmt"
	"slices"

	"tarnwold/core/account"
	"tarnwold/core/rule"
	"tarnwold/internal/estate"
)

// NotCounted is what a server's configuration has of a share that changes an answer and
// isn't counted.
func NotCounted(sh *estate.Share) []string {
	if sh == nil || sh.Admission == nil {
		return nil
	}
	return sh.Admission.Uncounted
}

// CentralPolicy is what the name of a policy begins with that stands over an item from
// outside of it ([MS-DTYP] §2.4.4.16): what that says isn't in its rules.
const CentralPolicy = "central access policy "

// BySignOn is what the name of a special account begins with that stands for whoever signs on
// in one way: which way somebody takes isn't known, and it counts for nobody.
const BySignOn = "by way of signing on "

var signOns = [...]account.ID{account.NTLM, account.Schannel, account.Digest}

// NotCountedOn is NotCounted with what stands over an item, and whom its rules or the
// share's name by how they sign on.
func (k *Asker) NotCountedOn(p estate.Place, sh *estate.Share) []string {
	out := slices.Clip(NotCounted(sh))
	d, ok := k.T.Of(p.Strand).(*rule.Descriptor)
	if ok {
		for _, e := range d.Audit.Entries {
			if e.Kind == rule.Policy && e.Flags&rule.InheritOnly == 0 {
				out = append(out, CentralPolicy+e.Who.String())
			}
		}
	}
	for _, id := range signOns {
		if ok && d.NamesNow(id) || sh != nil && sh.Descriptor != nil && sh.Descriptor.NamesNow(id) {
			name, _ := account.SpecialName(id)
			out = append(out, BySignOn+name)
		}
	}
	return out
}

// Admitted lists what a configuration says of a share, each as a key and a
// name joined by a blank: only, never, reads, writes, passes, as, with-group,
// with-group-of-members, hides.
func Admitted(a *estate.Admission) (out []string) {
	if !a.Says() {
		return nil
	}
	if a.Home != "" {
		out = append(out, "home "+a.Home)
	}
	for _, l := range []struct {
		key   string
		names []string
	}{{"only", a.Only}, {"never", a.Never}, {"reads", a.Reading}, {"writes", a.Writing}, {"passes", a.Administrators}} {
		for _, n := range l.names {
			out = append(out, l.key+" "+n)
		}
	}
	if a.Limited && len(a.Only) == 0 {
		out = append(out, "nobody at all")
	}
	if a.Exported {
		out = append(out, "squash-"+a.Squash+fmt.Sprintf(" uid %d, gid %d", a.Anon[0], a.Anon[1]))
		for _, h := range a.Hosts {
			out = append(out, "machine "+h)
		}
	}
	if a.Passes && len(a.Administrators) == 0 {
		out = append(out, "passes nobody")
	}
	if a.As != "" {
		out = append(out, "as "+a.As)
	}
	switch {
	case a.Group != "" && a.GroupOfMembers:
		out = append(out, "with-group-of-members "+a.Group)
	case a.Group != "":
		out = append(out, "with-group "+a.Group)
	}
	if a.NoMachine {
		out = append(out, "from-no-machine")
	}
	if a.Runs {
		out = append(out, "runs")
	}
	for _, u := range a.Uncounted {
		out = append(out, "not-counted "+u)
	}
	if a.Hides {
		out = append(out, "hides")
	}
	return out
}
