package cli

import (
	"encoding/json"
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"tarnwold/core/account"
	"tarnwold/core/verdict"
	"tarnwold/internal/estate"
	"tarnwold/internal/report"
)

func (a *app) serverCommand() *cobra.Command {
	return holder("server", "Know the servers, their traits and administrators",
		`  tarnwold server list
  tarnwold server show stagedoor`,
		a.serverAdd(), a.serverList(), a.serverShow())
}

func (a *app) serverAdd() *cobra.Command {
	var traits string
	var set, admins []string
	c := &cobra.Command{
		Use:   "add NAME",
		Short: "Add a server, or add administrators to one that is there",
		Long: `Add a server. What it does beyond its rules is kept as its traits: the
measured set "smb" unless said otherwise, or "plain", which is the standard's
decision and nothing beside it; --trait changes a single one.`,
		Example: `  tarnwold server add flyloft
  tarnwold server add stagedoor --administrator warden
  tarnwold server add attic --traits plain --trait asks-folders-above=true`,
		Args: cobra.ExactArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			tr, err := verdict.NamedTraits(traits)
			if err != nil {
				return usageError{err}
			}
			if tr, err = adjust(tr, set); err != nil {
				return usageError{err}
			}
			return a.alter(c.Context(), func(t *estate.Tx) (string, error) {
				s, err := t.Server(args[0])
				done := strings.Join(admins, ", ") + " made administrator of server " + args[0]
				if err != nil || len(admins) == 0 || c.Flags().Changed("traits") || len(set) > 0 {
					if s, err = t.AddServer(args[0], tr); err != nil {
						return "", err
					}
					done = "server " + s.Name + " added, traits " + tr.Name
				}
				for _, name := range admins {
					acc, err := t.Named(name, 0)
					if err != nil {
						return "", err
					}
					if err := t.AddAdministrator(s, acc); err != nil {
						return "", err
					}
				}
				a.say("%s", done)
				return done, nil
			})
		},
	}
	f := c.Flags()
	f.StringVar(&traits, "traits", "smb", "the named `set` of traits: "+strings.Join(verdict.TraitNames(), ", "))
	f.StringArrayVar(&set, "trait", nil, "one trait as `NAME=VALUE`; server show lists them")
	f.StringArrayVar(&admins, "administrator", nil, "an `account` for the server's list of administrators")
	_ = c.RegisterFlagCompletionFunc("administrator", a.completeAccounts(0))
	return c
}

// adjust changes single traits by the names they have in JSON.
func adjust(t verdict.Traits, set []string) (verdict.Traits, error) {
	for _, s := range set {
		name, value, ok := strings.Cut(s, "=")
		if !ok {
			return t, fmt.Errorf("%q is not NAME=VALUE", s)
		}
		known, err := traitFields(t)
		if err != nil {
			return t, err
		}
		if _, ok := known[name]; !ok || name == "name" {
			return t, fmt.Errorf("no trait is called %q; server show lists them", name)
		}
		known[name] = json.RawMessage(value)
		js, err := json.Marshal(known)
		if err != nil {
			return t, fmt.Errorf("trait %s: %q is no value", name, value)
		}
		if err := json.Unmarshal(js, &t); err != nil {
			return t, fmt.Errorf("trait %s: %q is no value for it", name, value)
		}
	}
	return t, nil
}

func traitFields(t verdict.Traits) (map[string]json.RawMessage, error) {
	js, err := json.Marshal(t)
	if err != nil {
		return nil, err
	}
	var m map[string]json.RawMessage
	return m, json.Unmarshal(js, &m)
}

func (a *app) serverList() *cobra.Command {
	return &cobra.Command{
		Use:     "list",
		Short:   "List the servers",
		Example: "  tarnwold server list",
		Args:    cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			return a.view(c.Context(), func(t *estate.Tx) error {
				g := report.Grid{Heads: []string{"server", "traits", "shares", "trees", "administrators"}}
				for _, s := range t.Servers() {
					var shares []string
					for _, sh := range t.Shares(s) {
						shares = append(shares, sh.Name)
					}
					g.Rows = append(g.Rows, []string{s.Name, s.Traits.Name, strings.Join(shares, ", "), strings.Join(t.Tops(s), ", "), names(t, t.Administrators(s))})
				}
				return a.printer().Grid(g)
			})
		},
	}
}

// traitOrder is how server show lists traits, each with what it means.
var traitOrder = []struct{ name, about string }{
	{"naming-shows-attributes", "naming an item grants read-attributes on it, as far as the share allows"},
	{"asks-folders-above", "every folder above an item is asked for execute"},
	{"read-only-takes", "the rights a read-only share takes away"},
	{"administrators-pass", "administrators pass the files' rules, not the share's"},
	{"moved-keeps", "a moved item keeps its inherited entries until they are renewed"},
	{"posix-ids", "uid and gids stand beside SIDs; the private group's gid is the uid"},
	{"domain-users", "every user is in the domain's users group"},
}

func (a *app) serverShow() *cobra.Command {
	return &cobra.Command{
		Use:               "show SERVER",
		Short:             "Show a server: its traits, administrators, shares and trees",
		Example:           "  tarnwold server show stagedoor",
		Args:              cobra.ExactArgs(1),
		ValidArgsFunction: a.completeServers,
		RunE: func(c *cobra.Command, args []string) error {
			return a.view(c.Context(), func(t *estate.Tx) error {
				s, err := t.Server(args[0])
				if err != nil {
					return err
				}
				admins := names(t, t.Administrators(s))
				if admins == "" {
					admins = "none"
				}
				p := a.printer()
				p.Line("%s, traits %s", report.Strong(s.Name), s.Traits.Name)
				p.Line("  administrators: %s", admins)
				p.Line("  trees: %s", strings.Join(t.Tops(s), ", "))
				for _, sh := range t.Shares(s) {
					p.Line("  share %s of %s", sh.Name, sh.Folder)
				}
				p.Line("")
				known, err := traitFields(s.Traits)
				if err != nil {
					return err
				}
				g := report.Grid{Heads: []string{"trait", "value", "meaning"}, Wrap: map[string]int{"value": 60}}
				for _, tr := range traitOrder {
					value := string(known[tr.name])
					if tr.name == "read-only-takes" {
						value = s.Traits.ReadOnlyTakes.String()
					}
					g.Rows = append(g.Rows, []string{tr.name, value, tr.about})
				}
				return p.Grid(g)
			})
		},
	}
}

func (a *app) completeServers(c *cobra.Command, _ []string, _ string) ([]string, cobra.ShellCompDirective) {
	var out []string
	_ = a.view(c.Context(), func(t *estate.Tx) error {
		for _, s := range t.Servers() {
			out = append(out, s.Name)
		}
		return nil
	})
	return out, cobra.ShellCompDirectiveNoFileComp
}

// completeAccounts offers accounts of a kind; 0 offers all, special ones too.
func (a *app) completeAccounts(kind account.Kind) func(*cobra.Command, []string, string) ([]string, cobra.ShellCompDirective) {
	return func(c *cobra.Command, _ []string, begun string) ([]string, cobra.ShellCompDirective) {
		var out []string
		_ = a.view(c.Context(), func(t *estate.Tx) error {
			for _, acc := range t.Accounts(kind) {
				if n := t.Name(acc.ID); strings.HasPrefix(n, begun) {
					out = append(out, n)
				}
			}
			if kind == 0 {
				for _, n := range account.SpecialNames() {
					if strings.HasPrefix(n, begun) {
						out = append(out, n)
					}
				}
			}
			return nil
		})
		return out, cobra.ShellCompDirectiveNoFileComp
	}
}

// completePlaces offers servers, shares, and the names in a folder.
func (a *app) completePlaces(c *cobra.Command, _ []string, begun string) ([]string, cobra.ShellCompDirective) {
	var out []string
	_ = a.view(c.Context(), func(t *estate.Tx) error {
		offer := func(s string) {
			if strings.HasPrefix(s, begun) {
				out = append(out, s)
			}
		}
		cut := strings.LastIndexByte(begun, '/')
		if cut >= 0 {
			if p, err := t.Find(begun[:cut+1]); err == nil && p.Folder {
				for _, n := range t.Children(p) {
					offer(begun[:cut+1] + n)
				}
			}
		}
		for _, s := range t.Servers() {
			for _, sh := range t.Shares(s) {
				offer(sh.Address(s) + "/")
			}
			for _, top := range t.Tops(s) {
				offer(s.Name + ":" + top + "/")
			}
		}
		return nil
	})
	return out, cobra.ShellCompDirectiveNoFileComp | cobra.ShellCompDirectiveNoSpace
}
