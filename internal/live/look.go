package live

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"tarnwold/core/place"
	"tarnwold/internal/estate"
	"tarnwold/internal/plan"
	"tarnwold/internal/plan/intake"
	"tarnwold/internal/server"
)

// Overlay brings some places of a private estate, with the folders above them
// and the shares that lead there, to what their server has at this moment. It
// tells where the estate had something else. Who is in which group is as the
// estate has it.
func Overlay(ctx context.Context, private *estate.Estate, s estate.Server, live server.Reader, where []place.Address) ([]intake.DriftLine, error) {
	shares, err := live.Shares(ctx)
	if err != nil {
		return nil, err
	}
	var lines []intake.DriftLine
	// Of a machine's own trees it isn't told what shares there are over them.
	own := slices.ContainsFunc(shares, func(x server.Share) bool { return x.Root })
	if err := keep(ctx, private, func(d *plan.Planner) (*plan.Plan, error) {
		if own {
			return intake.SharesFound(d, s, nil, false)
		}
		f, err := intake.DriftOf(d, s, shares, nil, 0)
		if err != nil {
			return nil, err
		}
		lines = append(lines, f.Lines...)
		return intake.SharesFound(d, s, shares, true)
	}); err != nil {
		return nil, err
	}
	for _, a := range where {
		err := keep(ctx, private, func(d *plan.Planner) (*plan.Plan, error) {
			items, err := chain(ctx, s, live, shares, a)
			if err != nil {
				return nil, err
			}
			p, more, err := intake.Now(d, s, items)
			lines = append(lines, more...)
			return p, err
		})
		if err != nil {
			return nil, err
		}
	}
	return lines, nil
}

// keep keeps a plan in a private estate.
func keep(ctx context.Context, e *estate.Estate, fn func(d *plan.Planner) (*plan.Plan, error)) error {
	var p *plan.Plan
	if err := e.View(ctx, func(t *estate.Tx) (err error) {
		p, err = fn(plan.New(t, ""))
		return err
	}); err != nil {
		return err
	}
	_, err := e.Change(ctx, p.Meta("as it is now"), p.Keep)
	return err
}

// chain reads an item and the folders above it, as far as a share leads.
func chain(ctx context.Context, s estate.Server, live server.Reader, shares []server.Share, a place.Address) (out []intake.Found, err error) {
	var top server.Share
	rest := a.Path
	if a.Share != "" {
		i := slices.IndexFunc(shares, func(x server.Share) bool { return strings.EqualFold(x.Name, a.Share) })
		if i < 0 {
			return nil, &estate.NotFound{What: "share", Name: a.Share, In: "the real server " + s.Name}
		}
		rest = place.Join(shares[i].Folder, a.Path)
	}
	// The share that begins highest shows the most of the folders above.
	found := false
	for _, x := range shares {
		if place.Under(rest, x.Folder) && (!found || len(x.Folder) < len(top.Folder)) {
			top, found = x, true
		}
	}
	if !found {
		return nil, &estate.Refused{Why: fmt.Sprintf("no share of %s leads to %s", s.Name, a)}
	}
	below, _ := place.Cut(rest, top.Folder)
	path, at := "", top.Folder
	parts := strings.Split(below, "/")
	if below == "" {
		parts = nil
	}
	for i := 0; ; i++ {
		x, err := live.Look(ctx, top.Name, path, false)
		if errors.Is(err, server.ErrNotThere) && i == len(parts) && i > 0 { // what is to be made
			return out, nil
		}
		if err != nil {
			return nil, fmt.Errorf("%s on the real server: %w", place.Address{Server: s.Name, Path: at}, err)
		}
		out = append(out, intake.Found{Path: at, Folder: x.Folder, Rules: x.Rules})
		if i == len(parts) {
			return out, nil
		}
		path = strings.TrimPrefix(path+"/"+parts[i], "/")
		at = place.Join(at, parts[i])
	}
}
