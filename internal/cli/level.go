package cli

import (
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"tarnwold/core/right"
	"tarnwold/internal/estate"
	"tarnwold/internal/report"
)

func (a *app) levelCommand() *cobra.Command {
	list := &cobra.Command{
		Use: "list", Short: "List the levels, weakest first", Example: "  tarnwold level list", Args: cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			return a.view(c.Context(), func(t *estate.Tx) error {
				g := report.Grid{Heads: []string{"level", "on a folder", "on a file", "what it is for", "note"}}
				for _, l := range t.Levels() {
					note := "the estate's own"
					if right.IsBuiltin(l.Name) {
						note = ""
					}
					g.Rows = append(g.Rows, []string{l.Name, mask(l.Folder), mask(l.File), l.About, note})
				}
				return a.printer().Grid(g)
			})
		},
	}
	show := &cobra.Command{
		Use: "show LEVEL", Short: "Explain a level, right by right", Example: "  tarnwold level show revise", Args: cobra.ExactArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			return a.view(c.Context(), func(t *estate.Tx) error {
				what, err := parseLevel(t, args[0])
				if err != nil {
					return err
				}
				p := a.printer()
				if l, ok := t.Levels().Lookup(args[0]); ok {
					p.Line("%s: %s\n", report.Strong(l.Name), l.About)
				}
				g := report.Grid{Heads: []string{"right", "folder", "file", "what it allows"}}
				for i := range right.Count {
					r := right.At(i)
					if what.Folder&r == 0 && what.File&r == 0 {
						continue
					}
					name := r.Names(false)[0]
					if other := r.Names(true)[0]; other != name {
						name += ", " + other
					}
					g.Rows = append(g.Rows, []string{name, yesNo(what.Folder&r != 0), yesNo(what.File&r != 0), right.Sentence(r)})
				}
				return p.Grid(g)
			})
		},
	}
	var folder, file, about string
	add := &cobra.Command{
		Use: "add NAME", Short: "Add a level of the estate's own",
		Long:    "Add a level of the estate's own from levels and rights joined by commas. Without\n--file the level speaks of folders only.",
		Example: `  tarnwold level add proofread --folder read --file read,write-data,append-data --about "read, and correct what is there"`,
		Args:    cobra.ExactArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			return a.alter(c.Context(), func(t *estate.Tx) (string, error) {
				l := right.Level{Name: args[0], About: about}
				on, err := parseLevel(t, folder)
				if err != nil {
					return "", err
				}
				l.Folder = on.Folder
				if file != "" {
					if on, err = parseLevel(t, file); err != nil {
						return "", err
					}
					l.File = on.File
				}
				a.say("level %s added", l.Name)
				return "level " + l.Name + " added", t.AddLevel(l)
			})
		},
	}
	add.Flags().StringVar(&folder, "folder", "", "what it allows on a folder, as levels and rights")
	add.Flags().StringVar(&file, "file", "", "what it allows on a file, as levels and rights")
	add.Flags().StringVar(&about, "about", "", "what it lets a person do, in a few words")
	_ = add.MarkFlagRequired("folder")
	remove := &cobra.Command{
		Use: "remove NAME", Short: "Remove a level of the estate's own; entries keep their rights", Example: "  tarnwold level remove proofread", Args: cobra.ExactArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			return a.alter(c.Context(), func(t *estate.Tx) (string, error) {
				a.say("level %s removed", args[0])
				return "level " + args[0] + " removed", t.RemoveLevel(args[0])
			})
		},
	}
	return holder("level", "Know the levels, and add some of your own", "  tarnwold level list\n  tarnwold level show revise", list, show, add, remove)
}

func mask(s right.Set) string {
	if s == 0 {
		return "–"
	}
	return strings.ToLower(fmt.Sprintf("0x%x", uint32(s)))
}
