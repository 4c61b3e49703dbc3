package show

import (
	"encoding/json"
	"fmt"
	"time"

	"tarnwold/core/account"
	"tarnwold/core/place"
	"tarnwold/core/posix"
	"tarnwold/core/verdict"
	"tarnwold/internal/ask"
	"tarnwold/internal/estate"
)

// Server is a server with all that is said of it.
type Server struct {
	Name           string              `json:"server"`
	Set            string              `json:"traits"` // the named set they began as
	Administrators []string            `json:"administrators"`
	Privileges     map[string][]string `json:"privileges,omitempty"` // who has which that counts
	Trees          []string            `json:"trees"`
	Shares         []Share             `json:"shares"`
	Traits         []Trait             `json:"trait-values"`
	// Link is how the real server is reached, as its protocol's package has
	// it; absent for a model alone.
	Link     json.RawMessage `json:"link,omitempty"`
	Protocol string          `json:"protocol,omitempty"`
	Scanned  string          `json:"last-scan,omitempty"` // when it was read last
}

// Trait is one trait of a server.
type Trait struct {
	Name  string `json:"trait"`
	Value string `json:"value"`
	About string `json:"meaning"`
	Seen  string `json:"seen"`
	// Own: it has another value than in the named set.
	Own bool `json:"differs-from-the-set,omitempty"`
}

// Share is a share with its own rules.
type Share struct {
	Address  string       `json:"share"`
	Server   string       `json:"server"`
	Folder   string       `json:"folder"`
	Loaded   bool         `json:"folder-loaded"`
	ReadOnly bool         `json:"read-only"`
	Takes    string       `json:"read-only-takes,omitempty"`
	Rules    string       `json:"rules"`
	Order    int          `json:"out-of-order-at,omitempty"`
	Owner    ask.Account  `json:"owner"`
	Entries  []ShownEntry `json:"entries"`
	// Configured is what the server's own configuration says beside: see
	// Admitted; ConfiguredIn is the file.
	Configured   []string `json:"configured,omitempty"`
	ConfiguredIn string   `json:"configured-in,omitempty"`
}

// Servers lists all servers.
func Servers(k *ask.Asker) ([]Server, error) {
	out := []Server{}
	for _, s := range k.T.Servers() {
		out = append(out, server(k, s))
	}
	return out, k.T.Err()
}

// ServerNamed shows one server.
func ServerNamed(k *ask.Asker, name string) (*Server, error) {
	s, err := k.T.Server(name)
	if err != nil {
		return nil, err
	}
	x := server(k, s)
	return &x, k.T.Err()
}

func server(k *ask.Asker, s estate.Server) Server {
	x := Server{Name: s.Name, Set: s.Traits.Name, Administrators: k.T.Names(k.T.Administrators(s)), Trees: append([]string{}, k.T.Tops(s)...), Shares: []Share{}}
	if l, ok := k.T.Link(s); ok {
		x.Protocol = l.Kind
		if json.Valid([]byte(l.Text)) {
			x.Link = json.RawMessage(l.Text)
		}
	}
	if at := k.T.Scanned(s); !at.IsZero() {
		x.Scanned = at.UTC().Format(time.RFC3339)
	}
	for what, who := range s.Traits.Held().Held() {
		if x.Privileges == nil {
			x.Privileges = map[string][]string{}
		}
		x.Privileges[string(what)] = k.T.Names(who)
	}
	for _, sh := range k.T.Shares(s) {
		x.Shares = append(x.Shares, share(k, s, sh))
	}
	values, named := TraitValues(s.Traits), map[string]string{}
	if set, err := verdict.NamedTraits(s.Traits.Name); err == nil {
		named = TraitValues(set)
	}
	for _, tr := range verdict.TraitList {
		x.Traits = append(x.Traits, Trait{tr.Name, values[tr.Name], tr.About, tr.Seen, values[tr.Name] != named[tr.Name]})
	}
	return x
}

// TraitValues gives each trait's value as it is typed.
func TraitValues(t verdict.Traits) map[string]string {
	js, err := json.Marshal(t)
	raw := map[string]json.RawMessage{}
	if err == nil {
		err = json.Unmarshal(js, &raw)
	}
	out := map[string]string{}
	if err != nil {
		return out
	}
	for name, v := range raw {
		var text string
		if json.Unmarshal(v, &text) != nil {
			text = string(v)
		}
		out[name] = text
	}
	out["umask"] = fmt.Sprintf("%04o", t.Umask)
	out["read-only-takes"] = t.ReadOnlyTakes.String()
	if t.SharesDescribe == "" {
		out["shares-describe"] = "no"
	}
	if t.Layers == 0 {
		out["group-layers"] = "any"
	} else {
		out["group-layers"] = fmt.Sprint(t.Layers)
	}
	return out
}

// Shares lists the shares of all servers.
func Shares(k *ask.Asker) ([]Share, error) {
	out := []Share{}
	for _, s := range k.T.Servers() {
		for _, sh := range k.T.Shares(s) {
			out = append(out, share(k, s, sh))
		}
	}
	return out, k.T.Err()
}

// ShareNamed shows one share.
func ShareNamed(k *ask.Asker, a place.Address) (*Share, error) {
	s, sh, err := k.T.FindShare(a)
	if err != nil {
		return nil, err
	}
	x := share(k, s, sh)
	return &x, k.T.Err()
}

func share(k *ask.Asker, s estate.Server, sh estate.Share) Share {
	d := sh.Descriptor
	_, err := k.T.At(s, sh.Folder)
	x := Share{Address: sh.Address(), Server: s.Name, Folder: sh.Folder, Loaded: err == nil, ReadOnly: sh.ReadOnly, Rules: ask.RulesAre(&d.Rules),
		Order: d.Rules.Misplaced() + 1, Owner: k.Account(d.Owner), Entries: []ShownEntry{}}
	if sh.Admission.Says() {
		x.Configured, x.ConfiguredIn = ask.Admitted(sh.Admission), sh.Admission.File
	}
	if sh.ReadOnly {
		x.Takes = s.Traits.ReadOnlyTakes.String()
	}
	days := k.T.Dated(estate.Bearer{Share: sh.ID}, d)
	for i, e := range d.Rules.Entries {
		x.Entries = append(x.Entries, ShownEntry{Place: i + 1, Entry: ask.ShareEntry(k.Lang, e), Deny: e.Kind.Refuses(), Own: true,
			From: "share " + sh.Address(), Until: string(days[e]), Who: k.Known(e.Who)})
	}
	return x
}

// Owner is who owns a place, and what that brings.
type Owner struct {
	Where  string      `json:"where"`
	Kind   string      `json:"kind"`
	Owner  ask.Account `json:"owner"`
	Brings string      `json:"brings"` // the rights owning brings, or by-entries where entries for owner@ say
}

// Owners tells who owns some items.
func Owners(k *ask.Asker, items []estate.Target) ([]Owner, error) {
	out := []Owner{}
	for _, x := range items {
		a := k.T.Of(x.Strand)
		d := k.AsEntries(a)
		o := Owner{Where: k.T.Where(x.Item), Kind: ask.Kind(x.Folder), Owner: k.Account(d.Owner), Brings: "read-acl,write-acl"}
		if _, ok := a.(*posix.Rules); ok {
			o.Brings = "write-attributes,write-acl"
		} else if d.Rules.Absent {
			o.Brings = "everything: the rules are absent"
		} else {
			for _, e := range d.Rules.Entries {
				if e.Who == account.OwnerRights && e.Counts() {
					o.Brings = "by-entries"
				}
			}
		}
		out = append(out, o)
	}
	return out, k.T.Err()
}
