package ask

import (
	"fmt"

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
		out = append(out, "only nobody")
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
