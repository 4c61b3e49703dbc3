package edit

import (
	acc "tarnwold/core/account"
	"tarnwold/internal/estate"
)

// Server is a server that comes, goes, or gets other traits.
type Server struct {
	Before, After *estate.Server
	Link          *estate.Link // of a new one: how the real server is reached
}

// Changes tells whether the server is there before and after.
func (e *Server) Changes() bool { return e.Before != nil && e.After != nil }

// Either gives the server as it will be, or as it was where it goes.
func (e *Server) Either() *estate.Server {
	if e.After != nil {
		return e.After
	}
	return e.Before
}

// Describe implements Edit.
func (e *Server) Describe(w Words) Description {
	out := Description{Kind: "server", Where: "server " + e.Either().Name}
	switch {
	case e.Before == nil:
		out.Lines = []Line{{Sign: Comes, What: "server", Text: "traits " + e.After.Traits.Name}}
	case e.After == nil:
		out.Lines = []Line{{Sign: Goes, What: "server"}}
	default:
		out.Lines = w.Traits(e.Before, e.After)
	}
	return out
}

// Touches implements Edit: everything on it, where its traits change.
func (e *Server) Touches() Touch {
	t := Touch{Server: e.Either()}
	if e.Changes() {
		t.Server, t.Decides = e.Before, "which its traits decide over"
	}
	return t
}

// applyServers comes first, for all else hangs from them.
func applyServers(t *estate.Tx, list []Server) {
	for i := range list {
		e := &list[i]
		switch {
		case e.Before == nil:
			*e.After = t.AddServer(e.After.Name, e.After.Traits)
			if e.Link != nil {
				t.SetLink(*e.After, *e.Link)
			}
		case e.After == nil:
			t.ForgetScans(*e.Before)
			t.Delete("servers", e.Before.ID)
		default:
			t.SetTraits(*e.Before, e.After.Traits)
		}
	}
}

// standing finds a server by its name where the edit knows it only as it will be
// once it is put in.
func standing(t *estate.Tx, s estate.Server) estate.Server {
	if found, ok := t.FindServer(s.Name); ok {
		return found
	}
	return s
}

// Link is how a server is reached from now on; nil: it is a model alone.
type Link struct {
	Server estate.Server
	Link   *estate.Link
}

func (e *Link) apply(t *estate.Tx) { t.Relink(e.Server, e.Link) }

// Administrator is an account that comes onto a server's list of administrators, or
// goes off it.
type Administrator struct {
	Server estate.Server
	Who    acc.Account
	On     bool
}

// Describe implements Edit.
func (e *Administrator) Describe(w Words) Description {
	return Description{Kind: "administrator", Where: "server " + e.Server.Name,
		Lines: []Line{{Sign: signOf(!e.On, e.On), What: "administrator", Text: w.AccountName(e.Who)}}}
}

// Touches implements Edit: administrators pass the rules of everything there.
func (e *Administrator) Touches() Touch {
	return Touch{Server: &e.Server, Decides: "whose administrators pass their rules"}
}

func (e *Administrator) apply(t *estate.Tx) {
	t.SetAdministrator(standing(t, e.Server), e.Who.ID, e.On)
}
