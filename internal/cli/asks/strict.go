package asks

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"tarnwold/internal/ask"
	"tarnwold/internal/cli/run"
	"tarnwold/internal/report/doc"
)

// uncounted gathers what configurations have that answers don't count, by the way in.
type uncounted struct {
	strict bool
	by     map[string][]string
}

func (u *uncounted) flags(c *cobra.Command) {
	c.Flags().BoolVar(&u.strict, "strict", false, "exit with 1 where a server's configuration has what the answer doesn't count")
}

func (u *uncounted) note(route string, list []string) {
	if len(list) == 0 {
		return
	}
	if u.by == nil {
		u.by = map[string][]string{}
	}
	u.by[route] = list
}

// tell says it once for each way in, beside many answers.
func (u *uncounted) tell(a *run.App) {
	for _, route := range slices.Sorted(maps.Keys(u.by)) {
		var said, over, by []string
		for _, x := range u.by[route] {
			if name, signing := strings.CutPrefix(x, ask.BySignOn); signing {
				by = append(by, name)
			} else if strings.HasPrefix(x, ask.CentralPolicy) {
				over = append(over, x)
			} else {
				said = append(said, x)
			}
		}
		for _, l := range []struct {
			what string
			list []string
		}{{"the configuration has ", said}, {"over items stands ", over}, {"rules name who signs on in one way, ", by}} {
			if len(l.list) > 0 {
				fmt.Fprintf(a.Err, "note: %s: %s%s, which no answer counts\n", doc.Clean(route), l.what, doc.Clean(strings.Join(l.list, "; ")))
			}
		}
	}
}

// or gives how a question ends: with the answer's own, but where it is to be strict.
func (u *uncounted) or(err error) error {
	if err == nil && u.strict && len(u.by) > 0 {
		return run.ErrNo
	}
	return err
}
