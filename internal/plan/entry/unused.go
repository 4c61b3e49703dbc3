package entry

import (
	"fmt"
	"slices"
	"strings"
	"time"

	acc "tarnwold/core/account"
	"tarnwold/internal/ask/findings"
	"tarnwold/internal/estate"
	"tarnwold/internal/plan"
)

// Unused is who has access that nothing in the trail shows them using.
type Unused struct {
	Where string       `json:"where"`
	Since string       `json:"since"`
	Users []UnusedUser `json:"unused"`
	Of    int          `json:"of-users"` // how many have access
	// From is when the trail of the server begins, To when it ends; what was
	// before it isn't known. RFC 3339, UTC.
	From string `json:"trail-from"`
	To   string `json:"trail-to"`
}

// UnusedUser is one of them.
type UnusedUser struct {
	User string `json:"user"`
	Has  string `json:"has"`            // read, or change
	Last string `json:"last,omitempty"` // when they used something there before; RFC 3339, UTC
	// By is the groups that let them in, the nearest to the rules first.
	By []string `json:"by"`
}

// UnusedSince lists who has access at or below a place, and has used none of it
// since a day as far as the trail tells.
func UnusedSince(d *plan.Planner, where string, since estate.Day) (*Unused, error) {
	p, err := d.K.Place(where)
	if err != nil {
		return nil, err
	}
	first, last := d.T.TrailSpan(p.Server.ID)
	if first == 0 {
		return nil, &estate.Refused{Why: fmt.Sprintf("the trail holds nothing of %s, so that everybody would look idle", p.Server.Name), Do: "load it first: tarnwold trail load FILE --server " + p.Server.Name}
	}
	begin := since.Begins()
	if begin.Unix() > last {
		return nil, &estate.Refused{Why: fmt.Sprintf("the trail of %s ends on %s, before %s", p.Server.Name, time.Unix(last, 0).Format(time.DateOnly), since), Do: "load what came since"}
	}
	out := &Unused{Where: p.Via(), Since: string(since), Users: []UnusedUser{}, From: plan.Moment(first), To: plan.Moment(last)}
	f := estate.TrailFilter{Server: p.Server.ID, Path: p.Path}
	ever := d.T.TrailUsers(f)
	have, err := findings.WhoEnters(d.K, p)
	if err != nil {
		return nil, err
	}
	out.Of = len(have)
	for _, h := range have {
		if ever[h.ID] >= begin.Unix() {
			continue
		}
		u := UnusedUser{User: d.T.Name(h.ID), Has: "read", By: []string{}}
		if h.Change {
			u.Has = "change"
		}
		if at := ever[h.ID]; at != 0 {
			u.Last = plan.Moment(at)
		}
		tok := acc.NewToken(d.T, h.ID, acc.Traits{})
		for _, g := range h.By {
			for _, l := range tok.Chain(g) {
				if name := d.T.Name(l.ID); l.ID != h.ID && !slices.Contains(u.By, name) {
					u.By = append(u.By, name)
				}
			}
		}
		out.Users = append(out.Users, u)
	}
	slices.SortFunc(out.Users, func(a, b UnusedUser) int {
		if a.Last != b.Last {
			return strings.Compare(a.Last, b.Last)
		}
		return strings.Compare(a.User, b.User)
	})
	return out, d.T.Err()
}
