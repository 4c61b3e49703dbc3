package run

import (
	"fmt"
	"strings"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"tarnwold/internal/report/doc"
)

// once is an option that takes one value: a second one is refused, for taking the
// last alone would pass over what somebody typed.
type once struct {
	pflag.Value
	given bool
	text  string
}

func (o *once) Set(s string) error {
	if o.given && (s != o.text || o.Type() != "bool") {
		return fmt.Errorf("it is given twice, as %q and as %q, and takes one", doc.Clip(o.text), doc.Clip(s))
	}
	o.given, o.text = true, s
	return o.Value.Set(s)
}

// OnceEach lets every option of a command and those below it be given once, but
// those that gather what they are given.
func OnceEach(c *cobra.Command) {
	for _, set := range []*pflag.FlagSet{c.PersistentFlags(), c.LocalNonPersistentFlags()} {
		set.VisitAll(func(f *pflag.Flag) {
			_, gathers := f.Value.(pflag.SliceValue)
			if _, is := f.Value.(*once); !is && !gathers && !strings.HasPrefix(f.Value.Type(), "count") {
				f.Value = &once{Value: f.Value}
			}
		})
	}
	for _, s := range c.Commands() {
		OnceEach(s)
	}
}
