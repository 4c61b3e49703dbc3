package run

import (
	"errors"
	"fmt"
	"slices"
	"strings"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"tarnwold/core/place"
	"tarnwold/core/right"
	"tarnwold/internal/estate"
	"tarnwold/internal/report/doc"
)

// meant says with an error what was probably meant to be typed, where that can be told.
func meant(c *cobra.Command, err error) error {
	if hint := hintFor(c, err); hint != "" {
		return fmt.Errorf("%w; %s", err, hint)
	}
	return err
}

func hintFor(c *cobra.Command, err error) string {
	use, _, _ := strings.Cut(c.UseLine(), " [flags]")
	var none *estate.NotFound
	var nowhere *place.Error
	switch {
	case errors.As(err, &none) && slices.Contains([]string{"account", "user", "group"}, none.What):
		level := right.IsBuiltin(none.Name)
		switch {
		case strings.Contains(use, "WHO") && isAddress(none.Name), strings.Contains(use, "LEVEL") && level:
			return "the account comes first: " + use
		case strings.Contains(use, "GROUP MEMBER") && none.What == "group" && none.In != "":
			return "the group comes first: " + use
		}
	case errors.As(err, &nowhere) && !strings.ContainsAny(nowhere.Text, `/\:`) && strings.Contains(use, "WH"):
		return "as in: " + use
	}
	return ""
}

// isAddress tells whether a word is written as a place is.
func isAddress(s string) bool {
	return strings.HasPrefix(s, "//") || strings.HasPrefix(s, `\\`) || strings.Contains(s, ":/")
}

// FlagError says of a flag that a command doesn't know which one is nearest, or which
// commands have it.
func FlagError(c *cobra.Command, err error) error {
	see := fmt.Sprintf("see: %s --help", c.CommandPath())
	name, ok := strings.CutPrefix(err.Error(), "unknown flag: --")
	if !ok {
		return Misused("%w; %s", err, see)
	}
	var names []string
	c.Flags().VisitAll(func(f *pflag.Flag) { names = append(names, f.Name) })
	c.InheritedFlags().VisitAll(func(f *pflag.Flag) { names = append(names, f.Name) })
	if near := estate.Nearest(name, names); len(near) > 0 {
		return Misused("%w; the nearest is --%s; %s", err, near[0], see)
	}
	var have []string
	var look func(*cobra.Command)
	look = func(o *cobra.Command) {
		if o.LocalNonPersistentFlags().Lookup(name) != nil && o.Runnable() {
			have = append(have, o.CommandPath())
		}
		for _, sub := range o.Commands() {
			look(sub)
		}
	}
	look(c.Root())
	switch n := len(have); {
	case n == 0:
		return Misused("%w; %s", err, see)
	case n > 4:
		have = append(have[:3], fmt.Sprintf("%d more", n-3))
	}
	return Misused("%w, which is of %s; %s", err, strings.Join(have, ", "), see)
}

// commandsMeant are words that people try for a command, and the one that does it here.
var commandsMeant = map[string]string{
	"acl": "show", "acls": "show", "permissions": "show", "rights": "show", "rules": "show", "info": "show", "get": "show", "list": "show", "ls": "reach", "tree": "reach",
	"access": "explain", "effective": "explain", "why": "explain", "can": "explain", "whoami": "user show",
	"allow": "grant", "permit": "grant", "give": "grant", "add": "grant", "refuse": "deny", "block": "deny", "forbid": "deny",
	"remove": "revoke", "delete": "revoke", "rm": "revoke", "clean": "strip", "modify": "replace", "change": "replace", "set": "replace",
	"chmod": "mode", "chown": "owner", "inherit": "unseal", "inheritance": "seal", "protect": "seal", "propagate": "reflow", "mkdir": "put", "rename": "move",
	"users": "user list", "groups": "group list", "servers": "server list", "shares": "share list", "levels": "level list", "members": "group show", "join": "group join", "leave": "group leave",
	"import": "load", "sync": "directory sync", "rollback": "undo", "revert": "undo", "audit": "watch", "problems": "findings", "report": "findings", "diff": "compare", "search": "uses", "find": "uses",
	"install": "setup", "begin": "setup", "configure": "setup", "new": "init", "create": "init", "start": "demo",
}

// NoCommand says of a word that it isn't a command, and which one does what it may mean.
func NoCommand(c *cobra.Command, word string) error {
	err := fmt.Errorf("%q is not a command of %s", doc.Clip(word), c.CommandPath())
	near := commandsMeant[strings.ToLower(word)]
	if c.HasParent() {
		near = ""
	}
	if list := c.SuggestionsFor(word); near == "" && len(list) > 0 {
		near = list[0]
	}
	if near != "" {
		err = fmt.Errorf("%w; the nearest is %q", err, near)
	}
	return err
}
