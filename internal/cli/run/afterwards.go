package run

import (
	"context"

	"tarnwold/internal/ask"
	"tarnwold/internal/estate"
	"tarnwold/internal/plan"
)

// Afterwards keeps a plan in a private estate, by nobody whom a guard holds back, and has a
// look at what is so there. Nothing of it stays.
func (a *App) Afterwards(ctx context.Context, build func(*plan.Planner) (*plan.Plan, error), look func(*ask.Asker) error) error {
	e, done, err := a.Open(ctx)
	if err != nil {
		return err
	}
	defer done()
	return e.Private(ctx, func(e *estate.Estate) error {
		var p *plan.Plan
		if err := e.View(ctx, func(t *estate.Tx) (err error) {
			p, err = build(plan.New(t, WhatIf))
			return err
		}); err != nil {
			return err
		}
		if p.Changes() {
			if _, err := e.Change(ctx, p.Meta(Command(a.Shown)), p.Keep); err != nil {
				return err
			}
		}
		return e.View(ctx, func(t *estate.Tx) error { return look(ask.New(t)) })
	})
}
