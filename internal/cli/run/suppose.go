package run

import (
	"context"
	"errors"
	"fmt"
	"os"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"tarnwold/core/place"
	"tarnwold/internal/estate"
	"tarnwold/internal/live"
	"tarnwold/internal/plan"
	"tarnwold/internal/plan/intake"
	"tarnwold/internal/report/changes"
	"tarnwold/internal/report/doc"
)

// supposition is what a question is asked under: changes that are not made,
// and a day that is past.
type supposition struct {
	ifs  []string
	when string

	now    bool // what the real server has at this moment
	sign   Signing
	places []string           // that are asked about
	found  []intake.DriftLine // where the estate has something else
}

// Supposing gives a question the flags --if and --when.
func (a *App) Supposing(c *cobra.Command) *cobra.Command {
	c.Flags().StringArrayVar(&a.suppose.ifs, "if", nil, "answer as if this `change` were made: \"WHO joins GROUP\", \"WHO leaves GROUP\", a command as \"deny stage read //…\", or a file that --save wrote; may be given again")
	c.Flags().StringVar(&a.suppose.when, "when", "", "answer as of the end of this `day`, YYYY-MM-DD, from the journal")
	return c
}

// WhatIf is who makes changes that are only supposed: nobody, whom no guard
// and no rule of ownership holds back.
const WhatIf = "what if"

// Open opens the estate, or lends the one that is supposed.
func (a *App) Open(ctx context.Context) (e *estate.Estate, done func(), err error) {
	if a.Inner != nil {
		return a.Inner, func() {}, nil
	}
	if a.Actor != "" && a.Actor != login() && !owns(a.EstatePath) {
		return nil, nil, &estate.Refused{Why: fmt.Sprintf("only the owner of %s may act as somebody else", a.EstatePath), Do: "leave --as out"}
	}
	e, err = estate.Open(ctx, a.EstatePath)
	if err != nil {
		return nil, nil, err
	}
	if mode := others(a.EstatePath); mode != 0 && !a.warned && a.Format != doc.JSON {
		a.warned = true
		fmt.Fprintf(a.Err, "tarnwold: others may read %s, and who may do what is in it (mode %04o): chmod 600 %[1]s\n", doc.Clean(a.EstatePath), mode)
	}
	return e, func() { e.Close() }, nil
}

// Supposed calls fn with the estate as the question supposes it.
func (a *App) Supposed(ctx context.Context, e *estate.Estate, fn func(*estate.Estate) error) error {
	s := a.suppose
	if len(s.ifs) == 0 && s.when == "" && !s.now {
		return fn(e)
	}
	if s.now && s.when != "" {
		return Misused("--live asks how it is now, --when how it was; take one of them")
	}
	var day estate.Day
	if s.when != "" {
		d, err := estate.ParseDay(s.when)
		if err != nil {
			return AsUsage(err)
		}
		if d > estate.Today() {
			return Misused("--when takes a day that is past, and %s is still to come; for what is to come: --if", d)
		}
		day = d
	}
	return e.Private(ctx, func(p *estate.Estate) error {
		if day != "" {
			if err := rewind(ctx, p, day); err != nil {
				return err
			}
		}
		if s.now {
			if err := a.overlay(ctx, p); err != nil {
				return err
			}
		}
		for _, what := range s.ifs {
			if err := a.makeBelieve(ctx, p, what); err != nil {
				return fmt.Errorf("--if %q: %w", doc.Clip(what), err)
			}
		}
		return fn(p)
	})
}

// rewind takes a private estate back to the end of a day.
func rewind(ctx context.Context, p *estate.Estate, day estate.Day) error {
	end := day.Begins().AddDate(0, 0, 1).UTC().Format(time.RFC3339)
	begun, err := intake.RewindTo(ctx, p, end)
	if err != nil || begun {
		return err
	}
	return p.View(ctx, func(t *estate.Tx) error {
		_, first, any := t.LastBefore(end)
		if !any {
			return &estate.Refused{Why: "the estate's journal is empty, so it had nothing on " + string(day)}
		}
		return &estate.Refused{Why: fmt.Sprintf("the estate's journal begins on %s, after %s", estate.Moment(first), day)}
	})
}

// makeBelieve makes a change in a private estate, as its command would.
func (a *App) makeBelieve(ctx context.Context, p *estate.Estate, what string) error {
	args, err := changeWords(what)
	if err != nil {
		return err
	}
	c, _, err := (&App{Commands: a.Commands, Shown: args}).Root().Find(args)
	if err != nil {
		return Misused("%w", err)
	}
	if c.Flags().Lookup("dry-run") == nil || c.Name() == "load" || c.HasParent() && c.Parent().Name() == "load" {
		return Misused("%q is not a change; wanted WHO joins GROUP, WHO leaves GROUP, a command that changes something, or a file that --save wrote", doc.Clip(strings.Join(args, " ")))
	}
	if err = a.within(ctx, p, args, nil); errors.Is(err, ErrNo) {
		return nil
	}
	return err
}

// changeWords makes a command's arguments of a change in words.
func changeWords(what string) ([]string, error) {
	if info, err := os.Stat(what); err == nil && info.Mode().IsRegular() {
		return []string{"apply", what}, nil
	}
	words, err := SplitWords(what)
	if err != nil {
		return nil, err
	}
	if len(words) == 3 {
		switch words[1] {
		case "joins":
			return []string{"group", "join", words[2], words[0]}, nil
		case "leaves":
			return []string{"group", "leave", words[2], words[0]}, nil
		}
	}
	if len(words) > 0 && words[0] == "tarnwold" {
		words = words[1:]
	}
	if len(words) == 0 {
		return nil, Misused("no change is named")
	}
	return words, nil
}

// SplitWords splits a line as a shell would: at blanks, but for those in
// quotes or behind a backslash.
func SplitWords(line string) (words []string, err error) {
	var b strings.Builder
	in, quote := false, byte(0)
	for i := 0; i < len(line); i++ {
		switch ch := line[i]; {
		case quote == '\'' && ch != '\'', quote == '"' && ch != '"' && ch != '\\':
			b.WriteByte(ch)
		case quote != 0 && ch == quote:
			quote = 0
		case quote == 0 && (ch == '\'' || ch == '"'):
			quote, in = ch, true
		case ch == '\\' && i+1 < len(line) && (quote == 0 && strings.IndexByte(" \t'\"\\", line[i+1]) >= 0 || quote == '"' && (line[i+1] == '"' || line[i+1] == '\\')):
			i++
			b.WriteByte(line[i])
			in = true
		case quote == 0 && (ch == ' ' || ch == '\t'):
			if in {
				words = append(words, b.String())
				b.Reset()
				in = false
			}
		default:
			b.WriteByte(ch)
			in = true
		}
	}
	if quote != 0 {
		return nil, Misused("a quote is not closed in %q", doc.Clip(line))
	}
	if in {
		words = append(words, b.String())
	}
	return words, nil
}

// Supposes says under what an answer is given, for people.
func (a *App) Supposes(p *doc.Printer) {
	if a.suppose.when != "" {
		p.Line(doc.In(doc.Faint, "as of "+a.suppose.when))
	}
	if a.suppose.now {
		p.Line(doc.In(doc.Faint, "as the real server has it now; who is in which group is as the estate has it"))
		to := *p
		if p.Format != doc.Table { // those who read data are told beside it
			to.W, to.Format = a.Err, doc.Table
		}
		changes.Differs(&to, a.suppose.found)
		if len(a.suppose.found) > 0 {
			to.Blank()
		}
	}
	for _, what := range a.suppose.ifs {
		p.Line(doc.In(doc.Faint, "if "+doc.Clip(what)))
	}
}

// keepSupposed keeps a plan in a private estate without asking anybody.
func (a *App) keepSupposed(ctx context.Context, p *plan.Plan) error {
	if !p.Changes() {
		return nil
	}
	_, err := a.Inner.Change(ctx, p.Meta(Command(a.Shown)), p.Keep)
	return err
}

// LiveFlag gives a question about places the flag --live.
func (a *App) LiveFlag(c *cobra.Command, places func(args []string) []string) {
	c.Flags().BoolVar(&a.suppose.now, "live", false, "ask the real server for the item and the folders above, now, and say where the estate has something else")
	a.suppose.sign.Flags(c)
	inner := c.RunE
	c.RunE = func(c *cobra.Command, args []string) error {
		if a.suppose.now {
			a.suppose.places = places(args)
		}
		return inner(c, args)
	}
}

// overlay brings the places asked about, in a private estate, to what their
// server has now.
func (a *App) overlay(ctx context.Context, private *estate.Estate) error {
	by := map[string][]place.Address{}
	var names []string
	for _, text := range a.suppose.places {
		at, err := place.Parse(text)
		if err != nil {
			return err
		}
		if by[at.Server] == nil {
			names = append(names, at.Server)
		}
		by[at.Server] = append(by[at.Server], at)
	}
	plain := *a
	plain.suppose = supposition{}
	a.suppose.found = nil
	for _, name := range names {
		s, from, err := plain.SignOn(ctx, &a.suppose.sign, name)
		if err != nil {
			return err
		}
		lines, err := live.Overlay(ctx, private, s, from, by[name])
		from.Close()
		if err != nil {
			return err
		}
		a.suppose.found = append(a.suppose.found, lines...)
	}
	return nil
}
