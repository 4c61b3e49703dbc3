package cli

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"

	"github.com/spf13/cobra"

	"tarnwold/internal/cli/run"
	"tarnwold/internal/playhouse"
	"tarnwold/internal/report/doc"
)

// stop is one stop of the guided tour.
type stop struct {
	about string // said before the commands; may be empty
	args  []string
}

func cmd(args ...string) stop { return stop{args: args} }

// tour is the demo: the playhouse from empty file to explained access.
var tour = []stop{
	{about: "The Quillfeather Playhouse tours with its file servers, stagedoor and flyloft, and a third one beside.\nAn estate is one file that holds all that Tarnwold knows. First the people."},
	cmd("init"),
	cmd("load", "accounts", "accounts.csv", "members.csv"),
	{about: "Then the servers, which belong to a domain, their shares and their folders."},
	cmd("server", "add", "stagedoor", "--traits", "smb-domain", "--administrator", "warden"),
	cmd("server", "add", "flyloft", "--traits", "smb-domain"),
	cmd("load", "shares", "shares.csv", "--server", "stagedoor"),
	cmd("load", "shares", "programme-shares.csv", "--server", "flyloft"),
	cmd("load", "tree", "stagedoor.csv", "--at", "stagedoor:/srv/playhouse"),
	cmd("load", "tree", "flyloft.csv", "--at", "flyloft:/data/programme"),
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
	{about: "petra has to read the ledgers for a week. What would give her that, and what else would it open?"},
	cmd("explain", "petra", "//stagedoor/productions/Box Office/Ledgers", "--want", "read"),
	{about: "Who can get into the wardrobe, and by which way?"},
	cmd("who", "//stagedoor/productions/Wardrobe"),
	{about: "What can petra reach? Each line holds for what is below it."},
	cmd("reach", "petra", "--under", "//stagedoor/productions"),
	{about: "Why ines and not bram?"},
	cmd("compare", "ines", "bram", "//stagedoor/vault", "--like"),
	{about: "The whole share at a glance."},
	cmd("grid", "//stagedoor/productions", "--for", "board,company,volunteers,wardrobe"),
	{about: "If lark joined the wardrobe? Nothing is kept."},
	cmd("explain", "lark", "//stagedoor/productions/Wardrobe", "--if", "lark joins wardrobe"),
	{about: "The stage crew needs the fittings. Look first: who gains what? Then keep it."},
	cmd("grant", "stage", "read", "//stagedoor/productions/Wardrobe/Fittings", "--dry-run"),
	cmd("grant", "stage", "read", "//stagedoor/productions/Wardrobe/Fittings", "--yes"),
	cmd("explain", "nils", "//stagedoor/productions/Wardrobe/Fittings/measurements.ods"),
	{about: "It was a mistake. Take it back, to the byte."},
	cmd("undo", "8", "--yes"),
	{about: "A deny entry that overrules what people hold now needs insisting."},
	cmd("deny", "volunteers", "read", "//stagedoor/productions/Scripts", "--yes"),
	{about: "silas has left, and still owns things. Hand them on, and mend what that leaves stale."},
	cmd("owned", "silas"),
	cmd("uses", "silas"),
	cmd("owner", "//stagedoor/productions/Archive/Tour 2024", "--to", "warden", "--below", "--yes"),
	cmd("differs", "//stagedoor/productions/Archive"),
	cmd("reflow", "//stagedoor/productions/Archive", "--yes"),
	{about: "Or take them off everything, in one change."},
	cmd("strip", "silas", "--owner-to", "warden", "--dry-run"),
	{about: "Whose entry is over when the tour ends?"},
	cmd("expire", "--on", "2027-04-01", "--dry-run"),
	{about: "Who changed what, and when?"},
	cmd("log"),
	cmd("log", "show", "10"),
	{about: "And when did nils come to read the fittings, and lose it again?"},
	cmd("history", "nils", "//stagedoor/productions/Wardrobe/Fittings"),
	{about: "Mistakes in typing change nothing, and say what is there."},
	cmd("grant", "wardrob", "edit", "//stagedoor/productions/Wardrobe", "--yes"),
	cmd("group", "join", "wardrobe", "acc-wardrobe-edit"),
	{about: "What would happen if they tried? Nothing is done."},
	cmd("try", "ines", "save", "//stagedoor/productions/Wardrobe/Fittings/measurements.ods"),
	cmd("try", "petra", "rename", "//stagedoor/productions/Scripts", "--to", "Drafts"),
	{about: "What the house relies on, checked line by line."},
	cmd("expect", "house.expect"),
	{about: "Rules wanted on places, kept as a file: laid in one change, held to, and lifted again."},
	cmd("policy", "lay", "wardrobe.policy", "--on", "//stagedoor/productions", "--yes"),
	cmd("revoke", "design-guests", "//stagedoor/productions/Wardrobe", "--yes"),
	cmd("policy", "drift"),
	cmd("policy", "lift", "wardrobe-season", "--yes"),
	{about: "Somebody asks, and is given it by the least that serves, in one step."},
	cmd("request", "petra", "read", "//stagedoor/productions/Archive", "--why", "the jubilee", "--until", "2099-03-31", "--as", "petra"),
	cmd("request", "accept", "1", "--yes"),
	{about: "What is probably wrong, why it matters, and what mends it?"},
	cmd("user", "set", "silas", "--shut"),
	cmd("findings", "--kind", "owner-left", "--kind", "idle-entry", "--kind", "out-of-sight"),
	{about: "Who was refused what, and why?"},
	cmd("trail", "load", "tries.csv"),
	cmd("trail", "--refused"),
	{about: "Many questions at once, for a program to read."},
	cmd("explain", "--from", "questions.csv", "--format", "csv"),
	cmd("try", "--from", "acts.csv", "--format", "csv"),
	cmd("files", "bram", "--count"),
	{about: "A third server, propstore, keeps owners, groups, modes and lists (POSIX.1e). The same questions, the same changes."},
	cmd("server", "add", "propstore", "--traits", "posix", "--administrator", "warden"),
	cmd("load", "tree", "--posix", "propstore.csv", "--at", "propstore:/srv/props"),
	cmd("show", "propstore:/srv/props/Workshop"),
	cmd("explain", "bram", "propstore:/srv/props/Workshop/cut list.ods"),
	cmd("explain", "nils", "propstore:/srv/props/Armoury/swords.ods"),
	cmd("try", "bram", "delete", "propstore:/srv/props/Loans/tiara.txt"),
	cmd("grid", "propstore:/srv/props", "--for", "stage,lighting,wardrobe,bram"),
	cmd("grant", "wardrobe", "edit", "propstore:/srv/props/Workshop", "--dry-run"),
	cmd("deny", "bram", "read", "propstore:/srv/props/Workshop", "--dry-run"),
	{about: "Is the estate whole?"},
	cmd("check"),
}

const (
	demoFolder = "tarnwold-demo"
	demoEstate = "tarnwold.estate"
)

func demoCommand(a *run.App) *cobra.Command {
	return &cobra.Command{
		Use:   "demo [FOLDER]",
		Short: "Make the playhouse estate and walk through the commands on it",
		Long: `Make the estate of a made-up theatre company in a new folder (` + demoFolder + ` unless
another is named) and run a guided tour on it. What is there already is never
touched.`,
		Example: `  tarnwold demo
  tarnwold demo /tmp/playhouse`,
		Args: cobra.MaximumNArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			dir, named := demoFolder, len(args) == 1
			if named {
				dir = args[0]
			}
			return demo(a, c.Context(), dir, named)
		},
	}
}

// freshFolder makes a folder that wasn't there; a name nobody chose gets a
// number where it is taken.
func freshFolder(dir string, named bool) (string, error) {
	for n := 2; ; n++ {
		err := os.Mkdir(dir, 0o700)
		if err == nil {
			return dir, nil
		}
		if !errors.Is(err, fs.ErrExist) {
			return "", err
		}
		if named || n > 999 {
			return "", run.Misused("%s is there already, and the demo only makes a new folder; name another", dir)
		}
		dir = fmt.Sprintf("%s-%d", demoFolder, n)
	}
}

func demo(a *run.App, ctx context.Context, dir string, named bool) error {
	dir, err := freshFolder(dir, named)
	if err != nil {
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
	p := a.Printer()
	for _, s := range tour {
		if s.about != "" {
			p.Blank()
			for _, l := range strings.Split(s.about, "\n") {
				p.Line(doc.In(doc.Strong, l))
			}
			continue
		}
		p.Blank()
		p.Line(doc.In(doc.Faint, "$ "), doc.In(doc.Good, run.Command(s.args)))
		sub := &run.App{Commands: a.Commands, In: a.In, Out: a.Out, Err: a.Out, Color: a.Color, Shown: s.args, Actor: "warden", Home: demoEstate}
		if code := sub.Run(ctx, s.args); code >= run.ExitTrouble {
			return fmt.Errorf("the demo stopped at: %s", run.Command(s.args))
		}
		if err := ctx.Err(); err != nil {
			return err
		}
	}
	p.Blank()
	p.Line(doc.In(doc.Strong, "The estate is yours to try things on:"))
	p.Line(doc.S("  %s --estate %s show //stagedoor/productions", invoked(), quoted(filepath.Join(dir, demoEstate))))
	return p.Err()
}

// invoked says how the program was started, so that what is printed works:
// `go run` leaves it in a folder that is gone a moment later.
func invoked() string {
	self, err := os.Executable()
	if err == nil && strings.Contains(filepath.ToSlash(self), "/go-build") {
		return "go run ./cmd/tarnwold"
	}
	if len(os.Args) > 0 && strings.ContainsAny(os.Args[0], `/\`) {
		return quoted(os.Args[0])
	}
	return "tarnwold"
}

func quoted(w string) string { return strings.TrimPrefix(run.Command([]string{w}), "tarnwold ") }
