package cli

import (
	"fmt"
	"time"

	"github.com/spf13/cobra"

	"tarnwold/core/change"
	"tarnwold/core/rule"
	"tarnwold/internal/estate"
)

func (a *app) expireCommand() *cobra.Command {
	var k keeping
	var on string
	c := &cobra.Command{
		Use:   "expire",
		Short: "List entries and memberships whose last day is past, and take them away",
		Long: `List entries and memberships whose last day is past, and take them away in one
change. With --yes it can run every night; where nothing is over it does nothing.`,
		Example: `  tarnwold expire --dry-run
  tarnwold expire --yes
  tarnwold expire --on 2027-04-01 --dry-run`,
		Args: cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			if err := day(on); err != nil {
				return err
			}
			today := on
			if today == "" {
				today = time.Now().Format(time.DateOnly)
			}
			return a.propose(c.Context(), k, func(t *estate.Tx) (*proposal, error) {
				over := t.Overdue(today)
				lang := language(t)
				byItem := map[int64][]rule.Entry{}
				var places []estate.Place
				var lines []string
				var members []estate.Over
				for _, o := range over {
					if o.Item == 0 {
						members = append(members, o)
						lines = append(lines, fmt.Sprintf("%s leaves %s (last day %s)", t.Name(o.Member.ID), t.Name(o.Group.ID), o.Until))
						continue
					}
					p := t.Place(o.Item)
					if byItem[o.Item] == nil {
						places = append(places, p)
					}
					byItem[o.Item] = append(byItem[o.Item], o.Entry)
					lines = append(lines, fmt.Sprintf("%s on %s is over (last day %s)", lang.Write(o.Entry, p.Folder), p, o.Until))
				}
				p, err := onItems(t, places, func(place estate.Place) change.Edit {
					return func(d, _ *rule.Descriptor, _ bool) (*rule.Descriptor, error) {
						return d.Without(byItem[place.Item]), nil
					}
				})
				if err != nil {
					return nil, err
				}
				p.lines, p.nothing, p.summary = lines, "nothing is over on "+today, fmt.Sprintf("expire %d on %s", len(over), today)
				if len(members) > 0 {
					p.also = func(t *estate.Tx) {
						for _, m := range members {
							if err := t.Leave(m.Group, m.Member); err != nil {
								return
							}
						}
					}
				}
				return p, nil
			})
		},
	}
	k.plainFlags(c)
	c.Flags().StringVar(&on, "on", "", "as if it were this `day`")
	return c
}
