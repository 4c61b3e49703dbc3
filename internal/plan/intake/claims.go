package intake

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	acc "tarnwold/core/account"
	"tarnwold/internal/estate"
	"tarnwold/internal/estate/edit"
	"tarnwold/internal/format"
	"tarnwold/internal/format/csvfile"
	"tarnwold/internal/format/shape"
	"tarnwold/internal/plan"
)

// ClaimsLoaded makes users have the claims that rows say, and no others; users whom no row
// names keep theirs. A row without a claim's name says that somebody has none.
func ClaimsLoaded(d *plan.Planner, file string, rows []csvfile.ClaimRow) (*plan.Plan, error) {
	t := d.T
	has := map[plan.ID]map[string]acc.Claim{}
	var order []acc.Account
	for _, r := range rows {
		bad := func(err error) error { return &format.Error{File: file, Line: r.Line, What: err.Error()} }
		u, err := t.Named(r.User, acc.User)
		if err != nil {
			return nil, bad(err)
		}
		mine := has[u.ID]
		if mine == nil {
			mine = map[string]acc.Claim{}
			has[u.ID] = mine
			order = append(order, u)
		}
		if r.Claim == "" {
			continue
		}
		v, err := acc.ParseValue(acc.ClaimKind(r.Kind), r.Value)
		if err != nil {
			return nil, bad(err)
		}
		name := strings.ToLower(r.Claim)
		c := mine[name]
		if len(c.Values) > 0 && c.Values[0].Kind != v.Kind {
			return nil, bad(fmt.Errorf("claim %s has values of two kinds, %s and %s", format.Clip(r.Claim), c.Values[0].Kind, v.Kind))
		}
		if !slices.Contains(c.Values, v) {
			c.Values = append(c.Values, v)
		}
		mine[name] = c
	}
	p := d.NewPlan("claims of %s", format.Count(int64(len(order)), "user"))
	p.Nothing = "they have just those claims already"
	p.Asks = len(t.TopItems()) > 0
	for _, u := range order {
		before := t.Record(estate.MetadataRecord, u.ID.String())
		was := t.MetadataOf(u.ID)
		is := was
		if is.Claims = acc.NewClaims(has[u.ID]); is.Claims == was.Claims {
			continue
		}
		e := edit.Description{Kind: "account", Where: "user " + t.Name(u.ID), Lines: claimLines(was.Claims, is.Claims)}
		if err := p.SetMetadata(u.ID, before, was, is, e); err != nil {
			return nil, err
		}
	}
	return d.Evaluate(p)
}

// claimLines tells which values of claims come and go.
func claimLines(was, is acc.Claims) (out []edit.Line) {
	say := func(a, b acc.Claims, sign edit.Sign) {
		var lines []string
		for name, c := range a.All() {
			for _, v := range c.Values {
				if !slices.Contains(b.All()[name].Values, v) {
					lines = append(lines, name+" "+v.String())
				}
			}
		}
		slices.Sort(lines)
		for _, l := range lines {
			out = append(out, edit.Line{Sign: sign, What: "claim", Text: l})
		}
	}
	say(was, is, edit.Goes)
	say(is, was, edit.Comes)
	return out
}

// claimed gives a user the claims that a directory tells of in place of what they had of
// those; others, of a sheet, stay.
func claimed(was, has acc.Claims, told []shape.Claim) acc.Claims {
	all := maps.Clone(was.All())
	if all == nil {
		all = map[string]acc.Claim{}
	}
	for _, c := range told {
		delete(all, strings.ToLower(c.Name))
	}
	maps.Copy(all, has.All())
	return acc.NewClaims(all)
}
