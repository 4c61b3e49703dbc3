package cli

import (
	"cmp"
	"runtime"
	"runtime/debug"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"tarnwold/internal/cli/run"
	"tarnwold/internal/report/doc"
	"tarnwold/internal/store"
)

// build is what the program knows of how it was made.
type build struct {
	Release string `json:"release"`          // "(devel)" where it was built from a tree
	Commit  string `json:"commit,omitempty"` // of the tree
	Date    string `json:"date,omitempty"`   // of that commit, RFC 3339
	Altered bool   `json:"altered"`          // the tree had changes beside it
	Layout  int    `json:"estate-layout"`    // of estates it makes
	Go      string `json:"go"`
	System  string `json:"system"`
}

// built reads the build's own information; the release's name alone is given to it.
func built() build {
	b := build{Release: run.Version, Layout: store.Version, Go: runtime.Version(), System: runtime.GOOS + "/" + runtime.GOARCH}
	info, ok := debug.ReadBuildInfo()
	if !ok {
		return b
	}
	b.Release = cmp.Or(b.Release, info.Main.Version)
	for _, s := range info.Settings {
		switch s.Key {
		case "vcs.revision":
			b.Commit = s.Value
		case "vcs.time":
			b.Date = s.Value
		case "vcs.modified":
			b.Altered = s.Value == "true"
		}
	}
	return b
}

func versionCommand(a *run.App) *cobra.Command {
	return &cobra.Command{
		Use:   "version",
		Short: "Show the version, and which estates it reads",
		Long: `Show the version: the release, the commit and date it was built from, and
the layout of the estates it makes. Estates of that layout and of every one before are
read; one that a later tarnwold made is refused, and says so.`,
		Example: "  tarnwold version\n  tarnwold version --format json",
		Args:    cobra.NoArgs,
		RunE: func(*cobra.Command, []string) error {
			return writeVersion(a.Printer())
		},
	}
}

func writeVersion(p *doc.Printer) error {
	b := built()
	return p.Give(b, []string{"release", "commit", "date", "altered", "estate layout", "go", "system"}, func() [][]string {
		return [][]string{{b.Release, b.Commit, b.Date, strconv.FormatBool(b.Altered), strconv.Itoa(b.Layout), b.Go, b.System}}
	}, func() {
		p.Line(doc.S("tarnwold %s, %s %s", b.Release, b.Go, b.System))
		if b.Commit != "" {
			with := ""
			if b.Altered {
				with = ", with changes beside it"
			}
			day, _, _ := strings.Cut(b.Date, "T")
			p.Line(doc.S("commit %s of %s%s", b.Commit[:min(12, len(b.Commit))], day, with))
		}
		p.Line(doc.S("estates of layout %d, and of every one before", b.Layout))
	})
}
