package show

import (
	"cmp"
	"slices"

	"tarnwold/core/account"
	"tarnwold/core/verdict"
	"tarnwold/internal/ask"
	"tarnwold/internal/estate"
)

// Presented is what a user presents to a server, identifier by identifier.
type Presented struct {
	Person
	Server string    `json:"server"`
	Local  bool      `json:"at-the-server-itself"`     // and not through a share
	Nobody string    `json:"own-account-of,omitempty"` // another machine, so that they are nobody here
	Token  []TokenID `json:"token"`
	Beside []NotInIt `json:"does-not-count"` // groups the user is in that don't count there, and why
	// Privileges are those that count on the server and the token brings.
	Privileges []Held `json:"privileges,omitempty"`
}

// Held is a privilege that a token brings.
type Held struct {
	Privilege string      `json:"privilege"`
	By        ask.Account `json:"by"`
}

// TokenID is one identifier of a token, with the way to it.
type TokenID struct {
	ask.Account
	// By is how it comes: user, member, primary-group, same-account (another identifier
	// of the one before it) or route (a special account that fits the way in).
	By      string   `json:"by"`
	Chain   []string `json:"chain"`
	Between int      `json:"left-out,omitempty"` // so many links in the middle of a long chain
}

// NotInIt is a group that doesn't count on a server.
type NotInIt struct {
	ask.Account
	// Why: another-machine (it is a built-in group of another machine or domain), mail (it
	// isn't for security), first-group (the user's primary group is in it, and that alone
	// counts), own-groups (the machine's own groups don't count in one another), or too-deep (the server follows groups less far).
	Why string `json:"why"`
	// By is the group on the way that doesn't count, where it isn't this one.
	By    string   `json:"by,omitempty"`
	Chain []string `json:"chain"`
}

var tokenSteps = map[account.Step]string{account.Self: "user", account.Member: "member", account.PrimaryOf: "primary-group",
	account.SameAccount: "same-account", account.Always: "route"}

// UserOn shows what a user presents to a server, through a share or at the server itself.
func UserOn(k *ask.Asker, word, server string, local bool) (*Presented, error) {
	u, err := k.T.User(word)
	if err != nil {
		return nil, err
	}
	s, err := k.T.Server(server)
	if err != nil {
		return nil, err
	}
	defer k.T.NumbersOf(s)()
	tok := k.Token(u.ID, &s, local)
	out := &Presented{Person: person(k, k.T, u, k.T.MetadataOf(u.ID).Details), Server: s.Name, Local: local, Token: []TokenID{}, Beside: []NotInIt{}}
	if tok.Nobody() {
		if of, ok := k.T.MachineOf(u.ID); ok {
			out.Nobody = of.Name
		}
	}
	names := func(links []account.Link) (chain []string) {
		for _, l := range links {
			chain = append(chain, k.T.Name(l.ID))
		}
		return chain
	}
	ids := tok.IDs()
	slices.SortFunc(ids, account.Compare)
	ends := tok.Ends(chainEnds)
	for _, id := range ids {
		if id.Inner() { // it is told by the identifier that rules name
			continue
		}
		links, between := ends.Of(id)
		out.Token = append(out.Token, TokenID{Account: k.Account(id), By: tokenSteps[links[len(links)-1].Step], Chain: names(links), Between: between})
	}
	// How near an identifier is says more than its number.
	slices.SortStableFunc(out.Token, func(a, b TokenID) int { return cmp.Compare(len(a.Chain)+a.Between, len(b.Chain)+b.Between) })
	for _, p := range s.Traits.Counting() {
		if tok.Has(p.Who) {
			out.Privileges = append(out.Privileges, Held{string(p.Privilege), k.Account(p.Who)})
		}
	}
	all := account.NewToken(k.T, u.ID, account.Traits{}, verdict.Special(local)...)
	whole := all.Ends(chainEnds)
	for _, id := range all.IDs() {
		g, ok := k.T.Account(id)
		if !ok || g.Kind != account.Group || account.Open(id) || tok.Has(id) {
			continue
		}
		links, _ := whole.Of(id)
		n := NotInIt{Account: k.Account(id), Chain: names(links)}
		var by account.ID
		if n.Why, by = keptOut(k, &s, all, id); by != id {
			n.By = k.T.Name(by)
		}
		out.Beside = append(out.Beside, n)
	}
	slices.SortFunc(out.Beside, func(a, b NotInIt) int { return cmp.Compare(estate.Key(a.Name), estate.Key(b.Name)) })
	return out, k.T.Err()
}

// keptOut tells what keeps a group out of a token, and by which group on the way to it.
func keptOut(k *ask.Asker, s *estate.Server, all *account.Token, group account.ID) (why string, by account.ID) {
	tr := &s.Traits.Traits
	for _, l := range all.Chain(group) {
		if tr.Elsewhere(l.ID) {
			return "another-machine", l.ID
		}
		if g, ok := k.T.Account(l.ID); ok && tr.LeftOut(g) {
			return "mail", l.ID
		}
	}
	if chain := all.Chain(group); tr.FirstAlone && len(chain) > 2 && chain[1].Step == account.PrimaryOf {
		return "first-group", group
	}
	for chain, i := all.Chain(group), 2; i < len(chain); i++ {
		if tr.PassedOver(chain[i].ID, chain[i-1].ID) {
			return "own-groups", group
		}
	}
	return "too-deep", group
}
