package real

import (
	"bufio"
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"tarnwold/internal/cli/run"
	"tarnwold/internal/estate"
	"tarnwold/internal/live"
	"tarnwold/internal/report/doc"
	"tarnwold/internal/server/smb"
	"tarnwold/internal/store"
)

// SetupCommand makes the first estate: it asks what it has to know, and runs the commands
// that anybody would run one by one.
func SetupCommand(a *run.App) *cobra.Command {
	var s setup
	var sign run.Signing
	c := &cobra.Command{
		Use:   "setup",
		Short: "Begin with your own server: make an estate, read the server, show a first answer",
		Long: `Ask what has to be known, make an estate, link it to a server, read the server, and
end with a first grid and the three most telling findings. Each command that it runs is
shown as you would type it. The server is a real one, reached over SMB, or trees of this
machine itself; nothing is written there.

Every question has a flag, and what a flag says isn't asked; with --yes nothing is, and
what isn't said is as usual: then, and away from a terminal, --smb or --root is needed.
What was broken off goes on when it is run again: an estate that is there already is
used, and so is the server in it.`,
		Example: `  tarnwold setup
  tarnwold setup --smb stagedoor.example --user warden
  tarnwold setup --root /srv/props --estate /var/lib/props/props.estate --yes
  tarnwold setup --smb dc.example --traits smb-domain --user warden@playhouse.test --folders-only --password-file ~/.dc --yes`,
		Args: cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			if a.Format != doc.Table {
				return run.Misused("setup speaks to a person, and has no --format %s; programs run init, server add, scan, grid and findings", a.Format)
			}
			s.a, s.c, s.in, s.p = a, c, bufio.NewReader(a.In), a.Printer()
			s.asks = a.Asks && !s.yes
			return s.run(c.Context())
		},
	}
	s.link.flags(c)
	_ = c.Flags().MarkHidden("local") // --root says it
	sign.Flags(c)
	f := c.Flags()
	f.StringArrayVar(&s.roots, "root", nil, "in place of a server: read the tree at this `folder` of this machine; may be given again")
	f.StringVar(&s.name, "name", "", "what the server is called in the estate, a `NAME` (default: the first part of the host's)")
	f.StringVar(&s.traits, "traits", "", "the named `set` of traits, as for: tarnwold server add (default: smb, or posix for this machine)")
	f.BoolVar(&s.foldersOnly, "folders-only", false, "leave files out, for a first look")
	f.BoolVar(&s.yes, "yes", false, "go on without asking")
	c.MarkFlagsMutuallyExclusive("smb", "root")
	_ = c.MarkFlagDirname("root")
	return c
}

// setup is what is asked for, and how it goes on.
type setup struct {
	a  *run.App
	c  *cobra.Command
	in *bufio.Reader
	p  *doc.Printer

	link         linking
	roots        []string
	name, traits string
	foldersOnly  bool
	yes          bool

	asks    bool // somebody is there who answers questions
	isThere bool // the estate
	known   bool // the server, in it
	unread  bool // the scan left something out
}

func (s *setup) run(ctx context.Context) error {
	if err := s.estate(ctx); err != nil {
		return err
	}
	if err := s.server(ctx); err != nil {
		return err
	}
	if err := s.called(ctx); err != nil {
		return err
	}
	if err := s.agreed(ctx); err != nil {
		return err
	}
	for _, args := range s.steps() {
		if err := s.step(ctx, args); err != nil {
			return err
		}
	}
	where, err := s.largest(ctx)
	if err != nil {
		return err
	}
	if where != "" {
		if err := s.step(ctx, []string{"grid", where}); err != nil {
			return err
		}
	}
	if err := s.step(ctx, []string{"findings", "--top", "3"}); err != nil {
		return err
	}
	s.next(where)
	if err := s.p.Err(); err != nil || !s.unread {
		return err
	}
	return fmt.Errorf("the first answer is there, but the scan left out what it could not read; once it can be read: %s", run.Command(s.typed([]string{"scan", s.name})))
}

// asked asks a question until its answer is good; enter takes the usual one.
func (s *setup) asked(ctx context.Context, question, usual string, good func(string) error) error {
	for {
		fmt.Fprint(s.a.Err, question)
		if usual != "" {
			fmt.Fprintf(s.a.Err, " [%s]", doc.Clean(usual))
		}
		fmt.Fprint(s.a.Err, ": ")
		line, err := run.Typed(ctx, s.in)
		if ctx.Err() != nil || err != nil {
			fmt.Fprintln(s.a.Err)
			return store.ErrStopped
		}
		if err = good(cmp.Or(strings.TrimSpace(line), usual)); err == nil {
			return nil
		}
		fmt.Fprintf(s.a.Err, "  %s\n", doc.Clean(err.Error()))
	}
}

func (s *setup) said(flag string) bool { return s.c.Flags().Changed(flag) }

// estate finds where the estate lives, and whether it is there.
func (s *setup) estate(ctx context.Context) error {
	good := func(path string) error {
		if path == "" {
			return run.Misused("wanted the path of a file")
		}
		s.a.EstatePath = path
		_, err := os.Stat(path)
		if s.isThere = err == nil; s.isThere {
			return s.a.View(ctx, func(*estate.Tx) error { return nil })
		}
		if info, err := os.Stat(filepath.Dir(path)); errors.Is(err, fs.ErrNotExist) {
			return run.Misused("there is no folder %s", filepath.Dir(path))
		} else if err == nil && !info.IsDir() {
			return run.Misused("%s is not a folder", filepath.Dir(path))
		}
		return nil
	}
	if s.said("estate") || !s.asks {
		return good(s.a.EstatePath)
	}
	return s.asked(ctx, "Where is the estate to live", s.a.EstatePath, good)
}

// server finds which server or tree is meant, and who signs on.
func (s *setup) server(ctx context.Context) error {
	if s.link.local && len(s.roots) == 0 {
		return run.Misused("say which trees of this machine are meant: --root FOLDER")
	}
	if !s.said("smb") && len(s.roots) == 0 {
		if !s.asks {
			return run.Misused("say what is to be read: --smb HOST for a server, or --root FOLDER for a tree of this machine")
		}
		if err := s.asked(ctx, "Which server is to be read (a host), or which folder of this machine (/…)", "", func(text string) error {
			s.roots, s.link.smb = nil, text
			if filepath.IsAbs(text) {
				s.roots, s.link.smb = []string{text}, ""
			} else if text == "" {
				return run.Misused("wanted the name of a host, as stagedoor.example, or a folder, as /srv/props")
			}
			return s.good()
		}); err != nil {
			return err
		}
	}
	if err := s.good(); err != nil {
		return err
	}
	if len(s.roots) > 0 || !s.asks {
		return nil
	}
	if !s.said("traits") {
		if err := s.asked(ctx, "Is it a server by itself (1), a member of a domain (2), or a domain's controller (3)", "1", func(text string) error {
			sets := map[string]string{"1": "smb", "2": "smb-member", "3": "smb-domain"}
			s.traits = sets[text]
			if s.traits == "" {
				return run.Misused("wanted 1, 2 or 3")
			}
			return nil
		}); err != nil {
			return err
		}
	}
	if !s.said("user") {
		return s.asked(ctx, "Who signs on there, as NAME, DOMAIN\\NAME or NAME@REALM", s.a.Who(), func(text string) error {
			s.link.user = text
			return s.good()
		})
	}
	return nil
}

// good tells what is wrong with the server or the trees that are named.
func (s *setup) good() error {
	s.link.local = len(s.roots) > 0
	for i, r := range s.roots {
		abs, err := filepath.Abs(r)
		if err != nil {
			return err
		}
		if info, err := os.Stat(abs); err != nil || !info.IsDir() {
			return run.Misused("there is no folder %s on this machine", doc.Clip(abs))
		}
		s.roots[i] = abs
	}
	_, err := s.link.link(s.a.Who())
	return err
}

// called finds what the server is called in the estate, and whether it is there.
func (s *setup) called(ctx context.Context) error {
	usual, _ := os.Hostname()
	if len(s.roots) == 0 {
		usual = s.link.smb
	}
	usual, _, _ = strings.Cut(usual, ".")
	if i := strings.LastIndexByte(usual, ':'); i > 0 {
		usual = usual[:i]
	}
	if strings.Trim(usual, "0123456789") == "" { // an address's first number says nothing
		usual = "server"
	}
	good := func(name string) error {
		s.name, s.known = name, false
		if !s.isThere {
			return nil
		}
		return s.a.View(ctx, func(t *estate.Tx) error {
			x, err := t.Server(name)
			if err != nil {
				return nil // it will be made
			}
			was, linked := t.Link(x)
			link, err := s.link.link(s.a.Who())
			if err != nil {
				return err
			}
			if !linked || reached(was) != reached(*link) {
				return run.Misused("there is a server %s in the estate already, which is another one; name this one with --name", x.Name)
			}
			s.known = true
			return nil
		})
	}
	if s.said("name") || !s.asks {
		return good(cmp.Or(s.name, usual))
	}
	return s.asked(ctx, "What is it called in the estate", usual, good)
}

// reached says where a link leads to, whoever signs on.
func reached(l estate.Link) string {
	var x smb.Link
	if l.Kind != estate.SMBLink || json.Unmarshal([]byte(l.Text), &x) != nil {
		return l.Kind
	}
	return l.Kind + " " + strings.ToLower(x.Address())
}

// agreed says what will be done, and asks whether it is to be.
func (s *setup) agreed(ctx context.Context) error {
	p := s.p
	at, err := filepath.Abs(s.a.EstatePath)
	if err != nil {
		return err
	}
	p.Line(doc.In(doc.Strong, "This will be done:"))
	if s.isThere {
		p.Line(doc.S("  use the estate %s, which is there already", at))
	} else {
		p.Line(doc.S("  make the estate %s: a file that only you can read, with others beside it whose names begin alike while it is written", at))
	}
	what := "put the server " + s.name + " into it"
	if s.known {
		what = "use the server " + s.name + " in it"
	}
	if len(s.roots) > 0 {
		p.Line(doc.S("  %s: this machine itself", what))
		p.Line(doc.S("  read the folders, files and rules at and below %s; nothing is written there", strings.Join(s.roots, ", ")))
	} else {
		link, err := s.link.link(s.a.Who())
		if err != nil {
			return err
		}
		var x smb.Link
		if err := json.Unmarshal([]byte(link.Text), &x); err != nil {
			return err
		}
		who := x.User
		if d := cmp.Or(x.Realm, x.Domain); d != "" {
			who += " of " + d
		}
		p.Line(doc.S("  %s: reached over SMB at %s, as %s", what, x.Address(), who))
		p.Line(doc.S("  read its accounts, shares, folders, files and rules; nothing is written there"))
	}
	if err := p.Err(); err != nil || s.yes {
		return err
	}
	if !s.a.Asks {
		return run.Misused("there is no terminal to ask at: add --yes to go on")
	}
	yes := false
	if err := s.asked(ctx, "Go on", "yes", func(text string) error {
		switch strings.ToLower(text) {
		case "y", "yes":
			yes = true
		case "n", "no":
		default:
			return run.Misused("wanted yes or no")
		}
		return nil
	}); err != nil {
		return err
	}
	if !yes {
		p.Line(doc.S("Nothing was done."))
		return run.ErrNo
	}
	return nil
}

// steps are the commands that make the estate and read the server.
func (s *setup) steps() (list [][]string) {
	if !s.isThere {
		list = append(list, []string{"init"})
	}
	scan := append([]string{"scan", s.name}, s.passed("password-file", "kerberos", "keytab", "folders-only")...)
	for _, r := range s.roots {
		scan = append(scan, "--root", r)
	}
	if !s.known {
		add := []string{"server", "add", s.name}
		if len(s.roots) > 0 {
			add = append(add, "--local")
		} else {
			add = append(add, "--smb", s.link.smb, "--user", cmp.Or(s.link.user, s.a.Who()))
		}
		if s.traits != "" && (s.said("traits") || s.traits != "smb") {
			add = append(add, "--traits", s.traits)
		}
		list = append(list, append(add, s.passed("domain", "password-at", "require-encryption", "guest", "patience", "old-dialects")...))
	}
	if _, err := os.Stat(live.SpoolOf(s.a.EstatePath, s.name)); err == nil {
		scan = append(scan, "--resume") // one that was broken off
	}
	return append(list, append(scan, "--yes"))
}

// passed gives flags as they were given here.
func (s *setup) passed(flags ...string) (out []string) {
	for _, name := range flags {
		f := s.c.Flags().Lookup(name)
		switch {
		case !f.Changed:
		case f.Value.Type() == "bool":
			out = append(out, "--"+name+map[string]string{"true": "", "false": "=false"}[f.Value.String()])
		default:
			out = append(out, "--"+name, f.Value.String())
		}
	}
	return out
}

// typed gives a command as it would be typed where this one was: the estate is named where
// it isn't the one that is used unsaid.
func (s *setup) typed(args []string) []string {
	for _, name := range []string{"estate", "as"} {
		f := s.c.Flags().Lookup(name)
		if f.Value.String() != f.DefValue {
			args = append(args, "--"+name, f.Value.String())
		}
	}
	return args
}

// step runs a command as somebody would who typed it.
func (s *setup) step(ctx context.Context, args []string) error {
	args = s.typed(args)
	s.p.Blank()
	s.p.Line(doc.In(doc.Faint, "$ "), doc.In(doc.Good, run.Command(args)))
	if err := s.p.Err(); err != nil {
		return err
	}
	a := s.a
	sub := &run.App{Commands: a.Commands, In: a.In, Out: a.Out, Err: a.Err, Color: a.Color, Asks: a.Asks, Shown: args, Actor: a.Actor}
	sub.ReadConfig()
	all := append(append([]string{}, args...), "--no-pager")
	s.c.InheritedFlags().Visit(func(f *pflag.Flag) {
		if f.Name == "verbose" || f.Name == "log-format" {
			all = append(all, "--"+f.Name+"="+f.Value.String())
		}
	})
	code := sub.Run(ctx, all)
	if code == run.ExitTrouble && args[0] == "scan" && ctx.Err() == nil && s.scanned(ctx) {
		s.unread = true
		return nil
	}
	if code >= run.ExitUsage || code == run.ExitNo && args[0] != "findings" {
		return fmt.Errorf("setup ended at: %s; what was done before that stays, and setup goes on from there when it is run again", run.Command(args))
	}
	return s.p.Err()
}

// scanned tells whether the server was read, be it in part.
func (s *setup) scanned(ctx context.Context) (yes bool) {
	_ = s.a.View(ctx, func(t *estate.Tx) error {
		x, err := t.Server(s.name)
		if err == nil {
			yes = !t.Scanned(x).IsZero()
		}
		return err
	})
	return yes
}

// largest gives the share, or the tree, with the most in it; empty: there is none.
func (s *setup) largest(ctx context.Context) (where string, err error) {
	err = s.a.View(ctx, func(t *estate.Tx) error {
		x, err := t.Server(s.name)
		if err != nil {
			return err
		}
		most := int64(-1)
		take := func(folder, address string) {
			if at, err := t.At(x, folder); err == nil {
				if n := t.CountUnder(at.Strand); n > most {
					most, where = n, address
				}
			}
		}
		for _, sh := range t.Shares(x) {
			take(sh.Folder, "//"+x.Name+"/"+sh.Name)
		}
		if where == "" {
			for _, top := range t.Tops(x) {
				take(top, x.Name+":"+top)
			}
		}
		return t.Err()
	})
	return where, err
}

// next says what may be done now.
func (s *setup) next(where string) {
	p := s.p
	p.Blank()
	p.Line(doc.In(doc.Strong, "Next:"))
	g := doc.Grid{Cols: []doc.Col{{Head: ""}, {Head: ""}}}
	row := func(what string, args ...string) {
		g.Rows = append(g.Rows, []doc.Cell{doc.C("  " + what), doc.CI(doc.Good, run.Command(s.typed(args)))})
	}
	if where != "" {
		row("Why can somebody get in, or not", "explain", "WHO", where)
		row("Who can get in", "who", where)
	}
	row("All that is probably wrong", "findings", "--summary")
	row("People from a directory", "directory", "add", "--help")
	p.Grid(g)
	if f := s.c.Flags().Lookup("estate"); f.Value.String() != f.DefValue {
		if at, err := filepath.Abs(s.a.EstatePath); err == nil {
			p.Line(doc.S("So that --estate needn't be given each time: set TARNWOLD_ESTATE to %s, or a line of your settings (tarnwold config --help).", at))
		}
	}
}
