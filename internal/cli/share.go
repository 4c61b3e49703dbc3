package cli

import (
	"fmt"

	"github.com/spf13/cobra"

	"tarnwold/core/account"
	"tarnwold/core/rule"
	"tarnwold/internal/estate"
	"tarnwold/internal/report"
)

func (a *app) shareCommand() *cobra.Command {
	return holder("share", "Know the shares and their own rules",
		`  tarnwold share add //stagedoor/programme /srv/playhouse/Programme
  tarnwold share show //stagedoor/vault`,
		a.shareAdd(), a.shareList(), a.shareShow())
}

func (a *app) shareAdd() *cobra.Command {
	var readOnly bool
	var rules []string
	c := &cobra.Command{
		Use:   "add //SERVER/SHARE FOLDER",
		Short: "Add a share over a server's folder",
		Long: `Add a share over a folder of a server, given by the server's own path. Its
rules are "allow everyone@ full" unless --rule says otherwise: then the files'
rules alone decide.`,
		Example: `  tarnwold share add //stagedoor/programme /srv/playhouse/Programme
  tarnwold share add //stagedoor/vault /srv/playhouse --rule "deny volunteers full" --rule "allow authenticated@ edit"
  tarnwold share add //stagedoor/readingroom /srv/playhouse --read-only`,
		Args: cobra.ExactArgs(2),
		RunE: func(c *cobra.Command, args []string) error {
			at, err := shareAddress(args[0])
			if err != nil {
				return err
			}
			folder, err := estate.ParseAddress(at.Server + ":" + args[1])
			if err != nil {
				return usageError{err}
			}
			if len(rules) == 0 {
				rules = []string{"allow everyone@ full"}
			}
			return a.alter(c.Context(), func(t *estate.Tx) (string, error) {
				s, _, err := t.ServerOrNew(at.Server)
				if err != nil {
					return "", err
				}
				d := &rule.Descriptor{Control: rule.RulesPresent, Audit: rule.Rules{Absent: true}}
				for _, r := range rules {
					l, err := language(t).ParseLine(r)
					if err != nil {
						return "", usageError{err}
					}
					l.Scope = rule.Here
					es, err := l.Entries(true)
					if err != nil {
						return "", usageError{err}
					}
					if d, err = d.Give(es, 0); err != nil {
						return "", err
					}
				}
				sh := estate.Share{Name: at.Share, Folder: folder.Path, ReadOnly: readOnly, Descriptor: d}
				if err := t.AddShare(s, sh); err != nil {
					return "", err
				}
				done := fmt.Sprintf("share %s added over %s:%s", sh.Address(s), s.Name, sh.Folder)
				a.say("%s", done)
				return done, nil
			})
		},
	}
	c.Flags().BoolVar(&readOnly, "read-only", false, "switch the share to read-only")
	c.Flags().StringArrayVar(&rules, "rule", nil, "an `entry` of the share's rules, as \"allow stage edit\"")
	return c
}

// shareAddress reads //SERVER/SHARE.
func shareAddress(s string) (estate.Address, error) {
	at, err := estate.ParseAddress(s)
	if err != nil {
		return at, usageError{err}
	}
	if at.Share == "" || at.Path != "" {
		return at, misused("%q is no share: write //SERVER/SHARE", s)
	}
	return at, nil
}

func (a *app) shareList() *cobra.Command {
	return &cobra.Command{
		Use:     "list",
		Short:   "List the shares of all servers",
		Example: "  tarnwold share list",
		Args:    cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			return a.view(c.Context(), func(t *estate.Tx) error {
				g := report.Grid{Heads: []string{"share", "folder", "read-only", "rules"}}
				lang := language(t)
				for _, s := range t.Servers() {
					for _, sh := range t.Shares(s) {
						g.Rows = append(g.Rows, []string{sh.Address(s), sh.Folder, yesNo(sh.ReadOnly), shareRules(lang, sh.Descriptor)})
					}
				}
				return a.printer().Grid(g)
			})
		},
	}
}

func yesNo(b bool) string {
	if b {
		return "yes"
	}
	return "no"
}

// shareRules writes a share's rules in lines.
func shareRules(lang rule.Language, d *rule.Descriptor) string {
	if d.Rules.Absent {
		return "absent: open to everyone"
	}
	s := ""
	for i, e := range d.Rules.Entries {
		if i > 0 {
			s += "\n"
		}
		s += shareEntry(lang, e)
	}
	if s == "" {
		return "empty: closed to everyone"
	}
	return s
}

// shareEntry writes an entry of a share, which has no scope.
func shareEntry(lang rule.Language, e rule.Entry) string { return lang.Write(e, false) }

func (a *app) shareShow() *cobra.Command {
	return &cobra.Command{
		Use:               "show //SERVER/SHARE",
		Short:             "Show a share: its folder, its switch, its own rules",
		Example:           "  tarnwold share show //stagedoor/vault",
		Args:              cobra.ExactArgs(1),
		ValidArgsFunction: a.completePlaces,
		RunE: func(c *cobra.Command, args []string) error {
			at, err := shareAddress(args[0])
			if err != nil {
				return err
			}
			return a.view(c.Context(), func(t *estate.Tx) error {
				s, err := t.Server(at.Server)
				if err != nil {
					return err
				}
				sh, err := t.Share(s, at.Share)
				if err != nil {
					return err
				}
				p := a.printer()
				p.Line("%s, over %s:%s", report.Strong(sh.Address(s)), s.Name, sh.Folder)
				if sh.ReadOnly {
					p.Line("  switched to read-only: takes away %s", s.Traits.ReadOnlyTakes)
				}
				ruleLine(p, &sh.Descriptor.Rules, "the share")
				p.Line("")
				g := report.Grid{Heads: []string{"#", "entry", "account"}}
				lang := language(t)
				for i, e := range sh.Descriptor.Rules.Entries {
					g.Rows = append(g.Rows, []string{fmt.Sprint(i + 1), shareEntry(lang, e), known(t, e.Who)})
				}
				return p.Grid(g)
			})
		},
	}
}

// ruleLine says of rules what a list of entries can't show.
func ruleLine(p *report.Printer, r *rule.Rules, what string) {
	switch {
	case r.Absent:
		p.Line("  rules absent: %s is %s", what, report.Bad("open to everyone, wholly"))
	case len(r.Entries) == 0:
		p.Line("  rules empty: %s is %s", what, report.Bad("closed to everyone"))
	}
	if i := r.Misplaced(); i >= 0 {
		p.Line("  entry %d is out of order (own deny, own allow, then inherited); entries are taken as they stand", i+1)
	}
}

// known says what an identifier is.
func known(t *estate.Tx, id account.ID) string {
	if a, ok := t.Account(id); ok {
		return a.Kind.String()
	}
	if _, ok := account.SpecialName(id); ok {
		return "special"
	}
	if n, user, ok := id.POSIX(); ok {
		kind := account.Group
		if user {
			kind = account.User
		}
		if a, ok := t.ByPOSIX(kind, n); ok {
			return "the id of " + kind.String() + " " + a.Name
		}
	}
	if _, rid, ok := id.Domain(); ok && rid == account.DomainUsersRID {
		return "every user of the domain"
	}
	return "unknown to the estate"
}
