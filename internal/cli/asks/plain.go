package asks

import (
	"strings"

	"github.com/spf13/cobra"

	"tarnwold/core/place"
)

// plainly is the flag by which places are taken as they stand, as lists that other
// programs wrote have them.
type plainly bool

func (p *plainly) flag(c *cobra.Command) {
	c.Flags().BoolVar((*bool)(p), "plain", false, "take places as they stand: \\ is a letter like any other")
}

// to is where an act leads, written so; of an owner who is given it is an account.
func (p plainly) to(act, word string) string {
	if act == "give-owner" {
		return word
	}
	return p.typed(word)
}

// typed writes a place so that it means what stands there; what is no place, a new name
// alone, likewise.
func (p plainly) typed(word string) string {
	if !p {
		return word
	}
	if a, err := place.ParsePlain(word); err == nil {
		return a.String()
	}
	return strings.ReplaceAll(word, `\`, `\\`)
}
