package run

import (
	"context"
	"errors"
	"io"
	"slices"
	"strings"

	"tarnwold/internal/ask/findings"
	"tarnwold/internal/estate"
	"tarnwold/internal/plan"
	"tarnwold/internal/report/doc"
)

// wanted are words of a command in whose place somebody has to say something.
var wanted = []string{"WHO", "GROUP", "LEVEL", "NAME"}

// Trial makes commands that would mend something, one after the other, in a private estate,
// and tells what they do. Nothing of it is kept.
func (a *App) Trial(ctx context.Context, e *estate.Estate, commands [][]string) (*findings.Trial, error) {
	out := &findings.Trial{Gains: []string{}, Loses: []string{}}
	if len(commands) == 0 {
		out.Why = "no command does it"
		return out, nil
	}
	for _, c := range commands {
		for _, arg := range c {
			for _, w := range strings.Split(arg, ":") { // user:NAME:rwx
				if slices.Contains(wanted, w) {
					out.Why = w + " has to be chosen first"
					return out, nil
				}
			}
		}
	}
	err := e.Private(ctx, func(p *estate.Estate) error {
		for i, c := range commands {
			var made []plan.Shift
			err := a.within(ctx, p, c[1:], func(p *plan.Plan) bool {
				made = append(made, p.Impact...)
				return i < len(commands)-1 // nothing is asked of what the last one makes
			})
			if ctx.Err() != nil {
				return ctx.Err()
			}
			if err != nil && !errors.Is(err, ErrNo) {
				out.Why = doc.Clip(strings.TrimSpace(err.Error()))
				return nil
			}
			for _, s := range made {
				switch s.Kind {
				case "gain":
					out.Gains = append(out.Gains, s.Users...)
				case "lose":
					out.Loses = append(out.Loses, s.Users...)
				default:
					out.Gains, out.Loses = append(out.Gains, s.Users...), append(out.Loses, s.Users...)
				}
			}
		}
		out.Done = true
		return nil
	})
	for _, list := range []*[]string{&out.Gains, &out.Loses} {
		slices.Sort(*list)
		*list = slices.Compact(*list)
	}
	return out, err
}

// within runs a command in a private estate; made, where it isn't nil, is told of what it
// would change there, and says whether it does.
func (a *App) within(ctx context.Context, p *estate.Estate, args []string, made func(*plan.Plan) bool) error {
	in := &App{Commands: a.Commands, In: strings.NewReader(""), Out: io.Discard, Err: io.Discard, Actor: WhatIf, Inner: p, EstatePath: a.EstatePath, Shown: args, made: made}
	root := in.Root()
	root.SetArgs(args)
	root.SetIn(in.In)
	root.SetOut(io.Discard)
	root.SetErr(io.Discard)
	return root.ExecuteContext(ctx)
}
