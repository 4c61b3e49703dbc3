package cli

import (
	"fmt"
	"os"
	"strings"

	"github.com/spf13/cobra"

	"tarnwold/internal/cli/run"
	"tarnwold/internal/format/settings"
	"tarnwold/internal/report/doc"
)

// isSet is a setting as it is at present.
type isSet struct {
	Setting string   `json:"setting"`
	Values  []string `json:"values"` // none: nothing is set
	From    string   `json:"from"`   // a flag, a variable of the environment, a file and its line, or built in
}

// configured is what is set, and the files it was read from.
type configured struct {
	Files    []string `json:"files"` // those that are read, where they are there; what stands in a later one counts
	Settings []isSet  `json:"settings"`
}

func configCommand(a *run.App) *cobra.Command {
	show := &cobra.Command{
		Use:   "show",
		Short: "Show each setting, and where it comes from",
		Long: `Show each setting, and where it comes from: a flag, a variable of the environment, a
file and its line, or the program itself. Files are YAML: the machine's first, then the
user's, or the one that ` + run.ConfigEnv + ` names (empty: none). A file that others may
write, or that belongs to somebody else but root, is refused.`,
		Example: "  tarnwold config show\n  tarnwold config show --format json",
		Args:    cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			return writeConfig(a, c)
		},
	}
	return run.Holder("config", "Show the settings: what needn't be given on each command line", "  tarnwold config show", show)
}

func writeConfig(a *run.App, c *cobra.Command) error {
	out := configured{Files: append([]string{}, run.ConfigFiles()...), Settings: []isSet{}}
	of := map[string]settings.Setting{}
	for _, s := range a.Settings() {
		of[s.Name()] = s
	}
	said := map[string]struct{ flag, env, plain string }{
		"estate": {"estate", "TARNWOLD_ESTATE", "tarnwold.estate"},
		"as":     {"as", "TARNWOLD_AS", ""},
		"format": {"format", "", "table"},
		"color":  {"", "", "yes"},
		"pager":  {"no-pager", "", "yes"},
	}
	at := func(s settings.Setting) string { return fmt.Sprintf("%s, line %d", s.File, s.Line) }
	for _, k := range settings.Keys {
		x, way := isSet{Setting: k[0]}, said[k[0]]
		set, there := of[k[0]]
		switch {
		case way.flag != "" && c.Flags().Changed(way.flag):
			x.From, x.Values = "--"+way.flag, []string{c.Flag(way.flag).Value.String()}
			if way.flag == "no-pager" {
				x.Values = []string{map[bool]string{true: "no", false: "yes"}[a.NoPager]}
			}
		case way.env != "" && os.Getenv(way.env) != "":
			x.From, x.Values = way.env, []string{os.Getenv(way.env)}
		case there:
			x.From, x.Values = at(set), set.Values
		case k[0] == "as":
			x.From, x.Values = "the login name", []string{a.Who()}
		default:
			x.From, x.Values = "built in", []string{way.plain}
		}
		out.Settings = append(out.Settings, x)
	}
	for _, s := range a.Settings() {
		if s.Key[0] == "passwords" || s.Key[0] == "commands" {
			out.Settings = append(out.Settings, isSet{s.Name(), s.Values, at(s)})
		}
	}
	p := a.Printer()
	heads := []string{"setting", "value", "from"}
	rows := func() (rows [][]string) {
		for _, s := range out.Settings {
			rows = append(rows, []string{s.Setting, strings.Join(s.Values, ", "), s.From})
		}
		return rows
	}
	return p.Give(out, heads, rows, func() {
		p.Grid(doc.PlainGrid(doc.Heads(heads...), rows()))
		switch len(out.Files) {
		case 0:
			p.Line(doc.S("No file of settings is read: %s is empty.", run.ConfigEnv))
		default:
			p.Line(doc.S("Read, where they are there: %s.", doc.Join(out.Files, "and")))
		}
	})
}
