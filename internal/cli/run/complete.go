package run

import (
	"fmt"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"tarnwold/core/account"
	"tarnwold/internal/estate"
	"tarnwold/internal/plan"
	"tarnwold/internal/plan/policies"
	"tarnwold/internal/report/doc"
	"tarnwold/internal/store"
)

type completion = func(*cobra.Command, []string, string) ([]string, cobra.ShellCompDirective)

// offered is how many names are offered at most.
const offered = 200

// Fitting keeps the words that begin as typed, and that a shell and a terminal
// can take: none with a control character in it.
func Fitting(words []string, begun string) (out []string) {
	key := store.Key(begun)
	for _, w := range words {
		name, _, _ := strings.Cut(w, "\t")
		if strings.HasPrefix(store.Key(name), key) && doc.Clean(name) == name && len(out) < offered {
			out = append(out, w)
		}
	}
	return out
}

// CompleteAccounts offers accounts of a kind; 0 offers all, special ones too.
func (a *App) CompleteAccounts(kind account.Kind) completion {
	return func(c *cobra.Command, _ []string, begun string) (out []string, _ cobra.ShellCompDirective) {
		_ = a.View(c.Context(), func(t *estate.Tx) error {
			out = t.Beginning(begun, kind, offered)
			if kind == 0 {
				out = append(out, account.SpecialNames()...)
			}
			return nil
		})
		return Fitting(out, begun), cobra.ShellCompDirectiveNoFileComp
	}
}

func (a *App) CompleteServers(c *cobra.Command, _ []string, begun string) (out []string, _ cobra.ShellCompDirective) {
	_ = a.View(c.Context(), func(t *estate.Tx) error {
		for _, s := range t.Servers() {
			out = append(out, s.Name)
		}
		return nil
	})
	return Fitting(out, begun), cobra.ShellCompDirectiveNoFileComp
}

// CompletePlaces offers servers, shares, and the names in a folder.
func (a *App) CompletePlaces(c *cobra.Command, _ []string, begun string) (out []string, _ cobra.ShellCompDirective) {
	_ = a.View(c.Context(), func(t *estate.Tx) error {
		if cut := strings.LastIndexByte(begun, '/'); cut >= 0 {
			if p, err := t.FindText(begun[:cut+1]); err == nil && p.Folder {
				for _, x := range t.Within(p.Item) {
					at := p.By(p.Share)
					if at.Path != "" && at.Path != "/" {
						at.Path += "/"
					}
					at.Path += x.Name
					s := at.Escaped()
					if x.Folder {
						s += "/"
					}
					out = append(out, s)
				}
			}
		}
		for _, s := range t.Servers() {
			for _, sh := range t.Shares(s) {
				out = append(out, sh.Address()+"/")
			}
			for _, top := range t.Tops(s) {
				out = append(out, s.Name+":"+strings.TrimSuffix(top, "/")+"/")
			}
		}
		return nil
	})
	return Fitting(out, begun), cobra.ShellCompDirectiveNoFileComp | cobra.ShellCompDirectiveNoSpace
}

func (a *App) CompleteLevels(c *cobra.Command, _ []string, begun string) (out []string, _ cobra.ShellCompDirective) {
	_ = a.View(c.Context(), func(t *estate.Tx) error {
		for _, l := range t.Levels() {
			out = append(out, l.Name+"\t"+doc.Clean(l.About))
		}
		return nil
	})
	return Fitting(out, begun), cobra.ShellCompDirectiveNoFileComp
}

// CompleteWords offers fixed words.
func CompleteWords(words []string) completion {
	return func(_ *cobra.Command, _ []string, begun string) ([]string, cobra.ShellCompDirective) {
		return Fitting(slices.Clone(words), begun), cobra.ShellCompDirectiveNoFileComp
	}
}

// CompleteInOrder offers by the place of the argument; the last one goes on.
func CompleteInOrder(by ...completion) completion {
	return func(c *cobra.Command, args []string, begun string) ([]string, cobra.ShellCompDirective) {
		return by[min(len(args), len(by)-1)](c, args, begun)
	}
}

func (a *App) CompleteDirectories(c *cobra.Command, args []string, _ string) ([]string, cobra.ShellCompDirective) {
	var out []string
	if len(args) == 0 {
		_ = a.View(c.Context(), func(t *estate.Tx) error {
			all, err := plan.Directories(t)
			for _, x := range all {
				out = append(out, x.Name)
			}
			return err
		})
	}
	return out, cobra.ShellCompDirectiveNoFileComp
}

func (a *App) CompletePolicies(c *cobra.Command, args []string, _ string) ([]string, cobra.ShellCompDirective) {
	var names []string
	if len(args) == 0 {
		_ = a.View(c.Context(), func(t *estate.Tx) error {
			all, err := policies.Policies(t)
			for _, p := range all {
				names = append(names, p.Name)
			}
			return err
		})
	}
	return names, cobra.ShellCompDirectiveNoFileComp
}

// CompleteChanges offers the journal's changes by their numbers, newest first; those alone that
// stand, where they are to be undone, or that are undone, where that is to be.
func (a *App) CompleteChanges(meant func(*estate.Change) bool) completion {
	return func(c *cobra.Command, args []string, begun string) (out []string, _ cobra.ShellCompDirective) {
		if len(args) > 0 {
			return nil, cobra.ShellCompDirectiveNoFileComp
		}
		_ = a.View(c.Context(), func(t *estate.Tx) error {
			for _, x := range t.Log() {
				if meant(&x) {
					out = append(out, fmt.Sprintf("%d\t%s", x.ID, doc.Clean(doc.Clip(x.Summary))))
				}
			}
			return t.Err()
		})
		return Fitting(out, begun), cobra.ShellCompDirectiveNoFileComp | cobra.ShellCompDirectiveKeepOrder
	}
}

// CompleteSharesOf offers the shares of the server that was named first, but for those named.
func (a *App) CompleteSharesOf(c *cobra.Command, args []string, begun string) (out []string, _ cobra.ShellCompDirective) {
	_ = a.View(c.Context(), func(t *estate.Tx) error {
		s, err := t.Server(args[0])
		if err != nil {
			return err
		}
		for _, sh := range t.Shares(s) {
			if !slices.Contains(args[1:], sh.Name) {
				out = append(out, sh.Name)
			}
		}
		return t.Err()
	})
	return Fitting(out, begun), cobra.ShellCompDirectiveNoFileComp
}
