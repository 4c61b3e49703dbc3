package cli

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"tarnwold/internal/cli/run"
	"tarnwold/internal/estate"
	"tarnwold/internal/playhouse"
	"tarnwold/internal/report/doc"
)

// stop is one stop of the guided tour: a chapter that begins, something that is said, or a
// command.
type stop struct {
	chapter string // its name; about is its title then
	about   string
	args    []string
}

func chapter(name, title string) stop { return stop{chapter: name, about: title} }

func cmd(args ...string) stop { return stop{args: args} }

// tour is the demo: the playhouse from empty file to explained access.
var tour = []stop{
	chapter("start", "An estate, from files"),
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
	chapter("answers", "Who may do what, and why"),
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
	chapter("changes", "A change: seen before it is kept, and taken back"),
	{about: "The stage crew needs the fittings. Look first: who gains what? Then keep it."},
	cmd("grant", "stage", "read", "//stagedoor/productions/Wardrobe/Fittings", "--dry-run"),
	cmd("grant", "stage", "read", "//stagedoor/productions/Wardrobe/Fittings", "--yes"),
	cmd("explain", "nils", "//stagedoor/productions/Wardrobe/Fittings/measurements.ods"),
	{about: "It was a mistake. Take it back, to the byte."},
	cmd("undo", "8", "--yes"),
	{about: "A deny entry that overrules what people hold now takes --force."},
	cmd("deny", "volunteers", "read", "//stagedoor/productions/Scripts", "--yes"),
	chapter("leaving", "Somebody leaves"),
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
	chapter("journal", "What was done, and mistakes"),
	{about: "Who changed what, and when?"},
	cmd("log"),
	cmd("log", "show", "10"),
	{about: "And when did nils come to read the fittings, and lose it again?"},
	cmd("history", "nils", "//stagedoor/productions/Wardrobe/Fittings"),
	{about: "Mistakes in typing change nothing, and say what is there."},
	cmd("grant", "wardrob", "edit", "//stagedoor/productions/Wardrobe", "--yes"),
	cmd("group", "join", "wardrobe", "acc-wardrobe-edit"),
	chapter("governing", "What is relied on, asked for, and probably wrong"),
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
	chapter("posix", "A server with owners, modes and lists"),
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
	var only string
	var list bool
	var names []string
	for _, c := range chapters() {
		names = append(names, c.Name)
	}
	c := &cobra.Command{
		Use:   "demo [FOLDER]",
		Short: "Make the playhouse estate and walk through the commands on it",
		Long: `Make the estate of a made-up theatre company in a new folder (` + demoFolder + ` unless
another is named) and run a guided tour on it. What is there already is never
touched. At a terminal it goes chapter by chapter: Enter goes on, a number jumps to a
chapter, q ends it. --chapter shows one by itself, once all before it is done unseen.`,
		Example: `  tarnwold demo
  tarnwold demo /tmp/playhouse
  tarnwold demo --list
  tarnwold demo --chapter answers`,
		Args: cobra.MaximumNArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			if list {
				return writeChapters(a.Printer())
			}
			if only != "" && !slices.Contains(names, only) {
				return run.AsUsage(&estate.NotFound{What: "chapter", Name: only, Near: estate.Nearest(only, names), In: "the demo; see: tarnwold demo --list"})
			}
			dir, named := demoFolder, len(args) == 1
			if named {
				dir = args[0]
			}
			return demo(a, c.Context(), dir, named, only)
		},
	}
	c.Flags().StringVar(&only, "chapter", "", "show this `chapter` alone")
	c.Flags().BoolVar(&list, "list", false, "list the chapters")
	c.MarkFlagsMutuallyExclusive("chapter", "list")
	_ = c.RegisterFlagCompletionFunc("chapter", cobra.FixedCompletions(names, cobra.ShellCompDirectiveNoFileComp))
	return c
}

// part is a chapter of the tour.
type part struct {
	Name  string `json:"chapter"`
	Title string `json:"title"`
	Stops []stop `json:"-"`
}

func chapters() (out []part) {
	for _, s := range tour {
		if s.chapter != "" {
			out = append(out, part{Name: s.chapter, Title: s.about})
			continue
		}
		at := &out[len(out)-1]
		at.Stops = append(at.Stops, s)
	}
	return out
}

func writeChapters(p *doc.Printer) error {
	all := chapters()
	return p.Give(all, []string{"chapter", "title"}, func() (out [][]string) {
		for _, c := range all {
			out = append(out, []string{c.Name, c.Title})
		}
		return out
	}, func() {
		g := doc.Grid{Cols: []doc.Col{{Head: ""}, {Head: "chapter"}, {Head: "", Weight: 1}}}
		for i, c := range all {
			g.Rows = append(g.Rows, []doc.Cell{doc.C(fmt.Sprint(i + 1)), doc.CI(doc.Strong, c.Name), doc.C(c.Title)})
		}
		p.Grid(g)
	})
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
			return "", run.Misused("%s already exists, and the demo only makes a new folder; name another", dir)
		}
		dir = fmt.Sprintf("%s-%d", demoFolder, n)
	}
}

func demo(a *run.App, ctx context.Context, dir string, named bool, only string) error {
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
	t := &touring{a: a, ctx: ctx, p: a.Printer(), all: chapters()}
	switch {
	case only != "":
		at := slices.IndexFunc(t.all, func(c part) bool { return c.Name == only })
		if err = t.reach(at); err == nil {
			err = t.show(at)
		}
	case a.Asks && run.IsTerminal(a.Out):
		err = t.walk()
	default:
		for i := range t.all {
			if err = t.stops(i, a.Out); err != nil {
				break
			}
		}
	}
	if err != nil {
		return err
	}
	t.p.Blank()
	t.p.Line(doc.In(doc.Strong, "The estate is yours to try things on:"))
	t.p.Line(doc.S("  %s --estate %s show //stagedoor/productions", invoked(), quoted(filepath.Join(dir, demoEstate))))
	return t.p.Err()
}

// touring is a tour under way, in the folder it made.
type touring struct {
	a    *run.App
	ctx  context.Context
	p    *doc.Printer
	all  []part
	done int // how many chapters are done
}

// stops makes the stops of a chapter, whose output goes to out.
func (t *touring) stops(i int, out io.Writer) error {
	seen := out != io.Discard
	for _, s := range t.all[i].Stops {
		if s.about != "" {
			if seen {
				t.p.Blank()
				for _, l := range strings.Split(s.about, "\n") {
					t.p.Line(doc.In(doc.Strong, l))
				}
			}
			continue
		}
		if seen {
			t.p.Blank()
			t.p.Line(doc.In(doc.Faint, "$ "), doc.In(doc.Good, run.Command(s.args)))
		}
		sub := &run.App{Commands: t.a.Commands, In: strings.NewReader(""), Out: out, Err: out, Color: t.a.Color && seen, Shown: s.args, Actor: "warden", Home: demoEstate}
		if code := sub.Run(t.ctx, s.args); code >= run.ExitTrouble {
			return fmt.Errorf("the demo stopped at: %s", run.Command(s.args))
		}
		if err := t.ctx.Err(); err != nil {
			return err
		}
	}
	t.done = i + 1
	return nil
}

// reach does all chapters before one unseen, from the beginning where one of them or a
// later one was done already.
func (t *touring) reach(i int) error {
	if t.done > i {
		old, err := filepath.Glob(demoEstate + "*") // all of it this tour made, in a folder of its own
		for _, f := range old {
			err = errors.Join(err, os.Remove(f))
		}
		if err != nil {
			return err
		}
		t.done = 0
	}
	for t.done < i {
		if err := t.stops(t.done, io.Discard); err != nil {
			return err
		}
	}
	return nil
}

// show makes the stops of a chapter under its head.
func (t *touring) show(i int) error {
	t.p.Blank()
	t.p.Line(doc.In(doc.Strong, fmt.Sprintf("%d of %d  %s", i+1, len(t.all), t.all[i].Title)))
	return t.stops(i, t.a.Out)
}

// walk goes from chapter to chapter as somebody at the terminal says.
func (t *touring) walk() error {
	if err := writeChapters(t.p); err != nil {
		return err
	}
	in := bufio.NewReader(t.a.In)
	for at := 0; ; {
		if err := t.reach(at); err != nil {
			return err
		}
		if err := t.show(at); err != nil {
			return err
		}
		next := "ends it"
		if at+1 < len(t.all) {
			next = fmt.Sprintf("goes on (%d: %s)", at+2, t.all[at+1].Title)
		}
		for asked := true; asked; {
			t.p.Blank()
			t.p.Line(doc.In(doc.Faint, fmt.Sprintf("Enter %s, a number jumps, q ends.", next)))
			line, err := run.Typed(t.ctx, in)
			word := strings.TrimSpace(line)
			n, bad := strconv.Atoi(word)
			switch {
			case t.ctx.Err() != nil:
				return t.ctx.Err()
			case err != nil, strings.EqualFold(word, "q"), word == "" && at+1 == len(t.all):
				return t.p.Err()
			case word == "":
				at, asked = at+1, false
			case bad == nil && n >= 1 && n <= len(t.all):
				at, asked = n-1, false
			}
		}
	}
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
