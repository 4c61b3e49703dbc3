package explain

import (
	"tarnwold/internal/ask"
	"tarnwold/internal/estate"
)

// Turned is one time an answer changed.
type Turned struct {
	Change  int64  `json:"change"`
	At      string `json:"at"` // RFC 3339, UTC
	By      string `json:"by"`
	Summary string `json:"what"`
	Route   string `json:"route"`
	Was     string `json:"was"`
	Is      string `json:"becomes"`
}

// History is how an answer came to be what it is, newest first.
type History struct {
	User  ask.Account `json:"user"`
	Where string      `json:"where"`
	Now   []Turned    `json:"now"` // by route: what it is today
	Turns []Turned    `json:"changes"`
	// Since is where the journal can't be followed further back: the load the
	// place came with; 0: to its beginning.
	Since int64 `json:"since,omitempty"`
}

// What is said where there was no answer yet.
const (
	NoPlace   = "not there"
	NoAccount = "no such account"
	NoRoute   = "no such share"
)

// HistoryOf goes back through the journal of a private estate, and tells when
// a user's level on a place changed, and by which change. It takes the changes
// back as it goes.
func HistoryOf(t *estate.Tx, who, where string) (*History, error) {
	k := ask.New(t)
	user, err := t.User(who)
	if err != nil {
		return nil, err
	}
	p, err := t.FindText(where)
	if err != nil {
		return nil, err
	}
	out := &History{User: k.Account(user.ID), Where: p.Via(), Now: []Turned{}, Turns: []Turned{}}
	// What a change didn't touch is as it was looked up last: most touch rules alone.
	here := p
	var found error
	levels := func(was estate.Rewound) (order []string, at map[string]string, err error) {
		if was.People {
			k = ask.New(t)
		}
		if was.Moved || was.People {
			here, found = t.FindText(where)
		} else if found == nil {
			here = t.Rechain(here)
		}
		at = map[string]string{}
		_, known := t.Account(user.ID)
		if err := t.Err(); err != nil {
			return nil, nil, err
		}
		switch {
		case found != nil:
			return nil, map[string]string{"": NoPlace}, nil
		case !known:
			return nil, map[string]string{"": NoAccount}, nil
		}
		p := here
		for _, sh := range k.Routes(p) {
			a := Answer(k, user, p, sh, true)
			order = append(order, a.Route)
			at[a.Route] = a.Level
		}
		return order, at, t.Err()
	}
	routes, is, err := levels(estate.Rewound{})
	if err != nil {
		return nil, err
	}
	for _, r := range routes {
		out.Now = append(out.Now, Turned{Route: r, Is: is[r]})
	}
	said := func(at map[string]string, route string) string {
		if s, ok := at[route]; ok {
			return s
		}
		if s, ok := at[""]; ok {
			return s
		}
		return NoRoute
	}
	lineage := t.LineageOf(p)
	for _, r := range t.Log() {
		if t.Brought(r.ID, p) {
			for _, route := range routes {
				out.Turns = append(out.Turns, Turned{r.ID, r.At, r.Actor, r.Summary, route, NoPlace, said(is, route)})
			}
			out.Since = r.ID
			break
		}
		touched := t.RewindOne(r.ID, lineage)
		if touched == (estate.Rewound{}) {
			continue
		}
		older, was, err := levels(touched)
		if err != nil {
			return nil, err
		}
		for _, route := range older {
			if _, ok := is[route]; !ok && len(is) > 0 && is[""] == "" {
				routes = append(routes, route) // a route that went since
			}
		}
		for _, route := range routes {
			if a, b := said(was, route), said(is, route); a != b {
				out.Turns = append(out.Turns, Turned{r.ID, r.At, r.Actor, r.Summary, route, a, b})
			}
		}
		is = was
		if is[""] != "" { // before that there was nothing to be answered
			break
		}
		if err := t.Context().Err(); err != nil {
			return nil, err
		}
	}
	return out, t.Err()
}
