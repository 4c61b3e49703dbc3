package real

import (
	"context"
	"encoding/csv"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"tarnwold/internal/cli/run"
	"tarnwold/internal/estate"
	"tarnwold/internal/format"
	"tarnwold/internal/live"
	"tarnwold/internal/newfile"
	"tarnwold/internal/report/changes"
	"tarnwold/internal/report/doc"
	"tarnwold/internal/server"
	"tarnwold/internal/server/smb"
)

func ProveCommand(a *run.App) *cobra.Command {
	var as, under, to string
	var items int
	var seed uint64
	c := &cobra.Command{
		Use:   "prove SERVER --as FILE",
		Short: "Prove answers on a real server, by opening things as test accounts",
		Long: `Prove answers on a real server: sign on as test accounts, open items with exactly
the rights an act needs, close them again, and compare what the server says with
what try says. Nothing is read, written or deleted, and no trace is left. Items are one
of every sort of rules first, then any, as many as --items says.

--as names a CSV file with the columns user and password, which nobody else may
read. Exit code 1 says that something differs; every difference is printed.

--report writes a file that names nobody and no place: the server's traits, how many
acts were tried, and which sorts of them were answered differently, how often. It can be
given to whoever keeps the traits.`,
		Example: `  tarnwold prove stagedoor --as testers.csv
  tarnwold prove stagedoor --as testers.csv --under //stagedoor/productions/Wardrobe --items 2000`,
		Args:              cobra.ExactArgs(1),
		ValidArgsFunction: a.CompleteServers,
		RunE: func(c *cobra.Command, args []string) error {
			if as == "" {
				return run.Misused("as whom? --as names a file with the columns user and password")
			}
			if items < 1 {
				return run.Misused("--items %d: wanted 1 or more", items)
			}
			return prove(a, c.Context(), args[0], as, to, live.Prove{Under: under, Items: items, Seed: seed})
		},
	}
	c.Flags().StringVar(&as, "as", "", "a CSV `file` with the columns user and password, which nobody else may read")
	c.Flags().StringVar(&under, "under", "", "only at and below this `place`")
	c.Flags().StringVar(&to, "report", "", "write what came of it to this `file`, without a name in it")
	c.Flags().IntVar(&items, "items", 300, "how many items, by each share that leads to them")
	c.Flags().Uint64Var(&seed, "seed", 1, "which items are picked: the same `number` picks the same")
	_ = c.RegisterFlagCompletionFunc("under", a.CompletePlaces)
	return c
}

func prove(a *run.App, ctx context.Context, name, file, to string, p live.Prove) error {
	users, passwords, err := testers(file)
	if err != nil {
		return err
	}
	s, l, err := a.Linked(ctx, name)
	if err != nil {
		return err
	}
	e, done, err := a.Open(ctx)
	if err != nil {
		return err
	}
	defer done()
	bar := a.Progress(len(users)*p.Items, "proving")
	defer bar.End()
	p.Server, p.Users = s, users
	p.Step = func(done, _ int) { bar.Set(done) }
	p.Open = func(ctx context.Context, user string) (server.Opener, error) {
		l.User = user
		return smb.DialExact(ctx, l, smb.Secret{Password: passwords[user]})
	}
	proof, err := p.Run(ctx, e)
	bar.End()
	if err != nil {
		return err
	}
	if err := e.Note(ctx, func(t *estate.Tx) error {
		t.SetOtherwise(s, estate.AnswerOtherwise, proof.Otherwise())
		return t.Err()
	}); err != nil {
		return err
	}
	if err := changes.Proved(a.Printer(), proof); err != nil {
		return err
	}
	if to != "" {
		js, err := json.MarshalIndent(proof.Report(s), "", "  ")
		if err != nil {
			return err
		}
		if err := newfile.Write(to, 0o644, append(js, '\n')); err != nil {
			return err
		}
		fmt.Fprintf(a.Err, "%s names nobody: it is fit to be given on\n", doc.Clean(to))
	}
	if len(proof.Differ) > 0 {
		return run.ErrNo
	}
	return nil
}

// testers reads test accounts and their passwords.
func testers(file string) (users []string, passwords map[string]string, err error) {
	if err := run.Private(file); err != nil {
		return nil, nil, err
	}
	f, err := os.Open(file)
	if err != nil {
		return nil, nil, err
	}
	defer f.Close()
	r := csv.NewReader(f)
	passwords = map[string]string{}
	bad := func(what string, args ...any) error {
		line, _ := r.FieldPos(0)
		return &format.Error{File: file, Line: line, What: fmt.Sprintf(what, args...)}
	}
	head, err := r.Read()
	if err != nil || !slices.Equal(head, []string{"user", "password"}) {
		return nil, nil, &format.Error{File: file, Line: 1, What: "wanted the columns user,password"}
	}
	for {
		row, err := r.Read()
		if err == io.EOF {
			break
		}
		var pe *csv.ParseError
		if errors.As(err, &pe) {
			return nil, nil, &format.Error{File: file, Line: pe.Line, What: pe.Err.Error()}
		}
		if err != nil {
			return nil, nil, err
		}
		user := strings.TrimSpace(row[0])
		if _, twice := passwords[user]; twice || user == "" {
			return nil, nil, bad("user %q appears twice, or is empty", doc.Clip(user))
		}
		users, passwords[user] = append(users, user), row[1]
	}
	if len(users) == 0 {
		return nil, nil, &format.Error{File: file, Line: 1, What: "it names nobody"}
	}
	return users, passwords, nil
}
