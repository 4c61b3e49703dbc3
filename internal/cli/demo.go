package cli

import (
	"context"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"

	"github.com/spf13/cobra"

	"tarnwold/internal/playhouse"
	"tarnwold/internal/report"
)

// stop is one stop of the guided tour.
type stop struct {
	about string // said before the commands; may be empty
	args  []string
}

func cmd(args ...string) stop { return stop{args: args} }

// tour is the demo: the playhouse from empty file to explained access.
var tour = []stop{
	{about: "The Quillfeather Playhouse tours with two file servers, stagedoor and flyloft.\nAn estate is one file that holds all that Tarnwold knows. First the people."},
	cmd("init"),
	cmd("load", "accounts", "accounts.csv", "members.csv"),
	cmd("load", "shares", "shares.csv", "--server", "stagedoor"),
	cmd("load", "shares", "programme-shares.csv", "--server", "flyloft"),
	cmd("load", "tree", "stagedoor.csv", "--at", "stagedoor:/srv/playhouse"),
	cmd("load", "tree", "flyloft.csv", "--at", "flyloft:/data/programme"),
	cmd("server", "add", "stagedoor", "--administrator", "warden"),
	{about: "Who is really in this group? Members at any depth, each with the way there."},
	cmd("group", "show", "acc-wardrobe-edit"),
	{about: "What does this folder say, and from where does each entry come?"},
	cmd("show", "//stagedoor/productions/Box Office/Ledgers"),
	{about: "Two shares stand over the same folders. This one has rules of its own."},
	cmd("share", "show", "//stagedoor/vault"),
	{about: "Why can bram work here?"},
	cmd("explain", "bram", "//stagedoor/productions/Wardrobe/Fittings"),
	{about: "lark volunteers in the box office. Why can't she open the ledgers?"},
	cmd("explain", "lark", "//stagedoor/productions/Box Office/Ledgers/2026-11.ods"),
	{about: "And tomas, by every way there is to the lighting plots?"},
	cmd("explain", "tomas", "stagedoor:/srv/playhouse/Lighting/Plots"),
	{about: "The stage crew needs the fittings. Look first: who gains what? Then keep it."},
	cmd("grant", "stage", "read", "//stagedoor/productions/Wardrobe/Fittings", "--dry-run"),
	cmd("grant", "stage", "read", "//stagedoor/productions/Wardrobe/Fittings", "--yes"),
	cmd("explain", "nils", "//stagedoor/productions/Wardrobe/Fittings/measurements.ods"),
	{about: "It was a mistake. Take it back, to the byte."},
	cmd("undo", "7", "--yes"),
	{about: "A deny entry that overrules what people hold now needs insisting."},
	cmd("deny", "volunteers", "read", "//stagedoor/productions/Scripts", "--yes"),
	{about: "silas has left, and still owns things. Hand them on, and mend what that leaves stale."},
	cmd("owned", "silas"),
	cmd("owner", "//stagedoor/productions/Archive/Tour 2024", "--to", "warden", "--below", "--yes"),
	cmd("differs", "//stagedoor/productions/Archive"),
	cmd("reflow", "//stagedoor/productions/Archive", "--yes"),
	{about: "Whose entry is over when the tour ends?"},
	cmd("expire", "--on", "2027-04-01", "--dry-run"),
	{about: "Who changed what, and when?"},
	cmd("log"),
	cmd("log", "show", "9"),
	{about: "Mistakes in typing change nothing, and say what is there."},
	cmd("grant", "wardrob", "edit", "//stagedoor/productions/Wardrobe", "--yes"),
	cmd("group", "join", "wardrobe", "acc-wardrobe-edit"),
	{about: "Many questions at once, for a program to read."},
	cmd("explain", "--from", "questions.csv", "--format", "csv"),
}

const demoFolder = "tarnwold-demo"

func (a *app) demoCommand() *cobra.Command {
	return &cobra.Command{
		Use:   "demo [FOLDER]",
		Short: "Make the playhouse estate and walk through the commands on it",
		Long: `Make the estate of a made-up theatre company in a folder (` + demoFolder + ` unless
another is named) and run a guided tour on it. A folder that an earlier demo
made is made anew; one with other files in it is left alone.`,
		Example: `  tarnwold demo
  tarnwold demo /tmp/playhouse`,
		Args: cobra.MaximumNArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			dir := demoFolder
			if len(args) == 1 {
				dir = args[0]
			}
			return a.demo(c.Context(), dir)
		},
	}
}

func (a *app) demo(ctx context.Context, dir string) error {
	const name = "tarnwold.estate"
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return err
	}
	there, err := os.ReadDir(dir)
	if err != nil {
		return err
	}
	for _, f := range there {
		if f.Name() != name && !slices.Contains(playhouse.Files, f.Name()) {
			return misused("%s holds files that are not the demo's (%s); name another folder", dir, f.Name())
		}
	}
	if err := os.Remove(filepath.Join(dir, name)); err != nil && !os.IsNotExist(err) {
		return err
	}
	if err := playhouse.Write(dir); err != nil {
		return err
	}
	back, err := os.Getwd()
	if err != nil {
		return err
	}
	if err := os.Chdir(dir); err != nil {
		return err
	}
	defer func() { _ = os.Chdir(back) }()
	p := a.printer()
	for _, s := range tour {
		if s.about != "" {
			p.Line("\n%s", report.Strong(s.about))
			continue
		}
		p.Line("\n%s", report.Faint("$ ")+report.Good(command(s.args)))
		sub := &app{in: a.in, out: a.out, err: a.out, color: a.color, shown: s.args, actor: "warden", home: name}
		if code := sub.run(ctx, s.args); code >= exitTrouble {
			return fmt.Errorf("the demo stopped at: %s", command(s.args))
		}
		if err := ctx.Err(); err != nil {
			return err
		}
	}
	p.Line("\n%s", report.Strong("The estate is yours to try things on:"))
	_, err = io.WriteString(a.out, "  cd "+dir+"\n  tarnwold --help\n")
	return err
}
