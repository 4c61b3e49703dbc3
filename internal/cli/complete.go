package cli

import (
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"tarnwold/core/account"
	"tarnwold/internal/estate"
	"tarnwold/internal/report"
	"tarnwold/internal/store"
)

type completion = func(*cobra.Command, []string, string) ([]string, cobra.ShellCompDirective)

// offered is how many names are offered at most.
const offered = 200

// fitting keeps the words that begin as typed, and that a shell and a terminal
// can take: none with a control character in it.
func fitting(words []string, begun string) (out []string) {
	key := store.Key(begun)
	for _, w := range words {
		name, _, _ := strings.Cut(w, "\t")
		if strings.HasPrefix(store.Key(name), key) && report.Clean(name) == name && len(out) < offered {
			out = append(out, w)
		}
	}
	return out
}

// completeAccounts offers accounts of a kind; 0 offers all, special ones too.
func (a *app) completeAccounts(kind account.Kind) completion {
	return func(c *cobra.Command, _ []string, begun string) (out []string, _ cobra.ShellCompDirective) {
		_ = a.view(c.Context(), func(t *estate.Tx) error {
			out = t.Beginning(begun, kind, offered)
			if kind == 0 {
				out = append(out, account.SpecialNames()...)
			}
			return nil
		})
		return fitting(out, begun), cobra.ShellCompDirectiveNoFileComp
	}
}

func (a *app) completeServers(c *cobra.Command, _ []string, begun string) (out []string, _ cobra.ShellCompDirective) {
	_ = a.view(c.Context(), func(t *estate.Tx) error {
		for _, s := range t.Servers() {
			out = append(out, s.Name)
		}
		return nil
	})
	return fitting(out, begun), cobra.ShellCompDirectiveNoFileComp
}

// completePlaces offers servers, shares, and the names in a folder.
func (a *app) completePlaces(c *cobra.Command, _ []string, begun string) (out []string, _ cobra.ShellCompDirective) {
	_ = a.view(c.Context(), func(t *estate.Tx) error {
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
	return fitting(out, begun), cobra.ShellCompDirectiveNoFileComp | cobra.ShellCompDirectiveNoSpace
}

func (a *app) completeLevels(c *cobra.Command, _ []string, begun string) (out []string, _ cobra.ShellCompDirective) {
	_ = a.view(c.Context(), func(t *estate.Tx) error {
		for _, l := range t.Levels() {
			out = append(out, l.Name+"\t"+report.Clean(l.About))
		}
		return nil
	})
	return fitting(out, begun), cobra.ShellCompDirectiveNoFileComp
}

// completeWords offers fixed words.
func completeWords(words []string) completion {
	return func(_ *cobra.Command, _ []string, begun string) ([]string, cobra.ShellCompDirective) {
		return fitting(slices.Clone(words), begun), cobra.ShellCompDirectiveNoFileComp
	}
}

// completeInOrder offers by the place of the argument; the last one goes on.
func completeInOrder(by ...completion) completion {
	return func(c *cobra.Command, args []string, begun string) ([]string, cobra.ShellCompDirective) {
		return by[min(len(args), len(by)-1)](c, args, begun)
	}
}
