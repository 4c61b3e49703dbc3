package cli

import (
	"context"
	"errors"
	"io"
	"os"
	"runtime/debug"

	"github.com/schollz/progressbar/v3"
	"github.com/spf13/cobra"

	"tarnwold/internal/estate"
	"tarnwold/internal/format"
	"tarnwold/internal/format/passwd"
	"tarnwold/internal/format/sheet"
	"tarnwold/internal/report"
)

func (a *app) loadCommand() *cobra.Command {
	return holder("load", "Take accounts, shares and trees from files",
		`  tarnwold load accounts accounts.csv members.csv
  tarnwold load shares shares.csv --server stagedoor
  tarnwold load tree tree.csv --at stagedoor:/srv/playhouse`,
		a.loadAccounts(), a.loadShares(), a.loadTree())
}

func (a *app) loadAccounts() *cobra.Command {
	var passwdFile, groupFile string
	c := &cobra.Command{
		Use:   "accounts [FILE…]",
		Short: "Take users, groups and memberships from CSV or POSIX files",
		Long: `Take users, groups and memberships from files, all of them or none.

A CSV file is told by its head row: kind,name,sid,id (and purpose, primary)
for accounts, group,member (and until) for memberships. Accounts that are in
the estate already are completed where they lack something.`,
		Example: `  tarnwold load accounts accounts.csv members.csv
  tarnwold load accounts --passwd /etc/passwd --group /etc/group`,
		RunE: func(c *cobra.Command, files []string) error {
			if len(files) == 0 && passwdFile == "" && groupFile == "" {
				return misused("name a file, or --passwd and --group; see: tarnwold load accounts --help")
			}
			var lists []accountList
			for _, f := range files {
				l, err := readFile(f, readAccounts)
				if err != nil {
					return err
				}
				lists = append(lists, l)
			}
			if passwdFile != "" {
				l, err := readFile(passwdFile, func(r io.Reader, f string) (l accountList, err error) {
					l.file = f
					l.accounts, err = passwd.Users(r, f)
					return l, err
				})
				if err != nil {
					return err
				}
				lists = append(lists, l)
			}
			if groupFile != "" {
				l, err := readFile(groupFile, func(r io.Reader, f string) (l accountList, err error) {
					l.file = f
					l.accounts, l.members, err = passwd.Groups(r, f)
					return l, err
				})
				if err != nil {
					return err
				}
				lists = append(lists, l)
			}
			return a.keepAccounts(c.Context(), lists)
		},
	}
	c.Flags().StringVar(&passwdFile, "passwd", "", "a `file` in the form of passwd(5)")
	c.Flags().StringVar(&groupFile, "group", "", "a `file` in the form of group(5)")
	return c
}

// accountList is what one file held.
type accountList struct {
	file     string
	accounts []format.AccountRow
	members  []format.MemberRow
}

func readAccounts(r io.Reader, file string) (l accountList, err error) {
	l.file = file
	s, err := sheet.Open(r, file, sheet.Accounts, sheet.Members)
	if err != nil {
		return l, err
	}
	if s.Kind == sheet.Accounts {
		l.accounts, err = s.ReadAccounts()
	} else {
		l.members, err = s.ReadMembers()
	}
	return l, err
}

func readFile[T any](file string, read func(io.Reader, string) (T, error)) (out T, err error) {
	f, err := os.Open(file)
	if err != nil {
		return out, err
	}
	defer f.Close()
	return read(f, file)
}

// keepAccounts puts in all accounts first, then all memberships, so that the
// order of the files doesn't matter.
func (a *app) keepAccounts(ctx context.Context, lists []accountList) error {
	return a.alter(ctx, func(t *estate.Tx) (string, error) {
		var sum estate.AccountCount
		count := func(file string, accounts []format.AccountRow, members []format.MemberRow) error {
			c, err := t.LoadAccounts(accounts, members)
			sum.Users += c.Users
			sum.Groups += c.Groups
			sum.Members += c.Members
			sum.Completed += c.Completed
			return inFile(file, err)
		}
		// Groups before users: a user's primary group is found by its gid.
		for i := len(lists) - 1; i >= 0; i-- {
			if err := count(lists[i].file, lists[i].accounts, nil); err != nil {
				return "", err
			}
		}
		for _, l := range lists {
			if err := count(l.file, nil, l.members); err != nil {
				return "", err
			}
		}
		s := report.Count(int64(sum.Users), "user") + ", " + report.Count(int64(sum.Groups), "group") + " and " + report.Count(int64(sum.Members), "membership") + " loaded"
		if sum.Completed > 0 {
			s += ", " + report.Count(int64(sum.Completed), "account") + " completed"
		}
		a.say("%s", s)
		return s, nil
	})
}

// inFile says in which file a row is wrong.
func inFile(file string, err error) error {
	var re *estate.RowError
	if errors.As(err, &re) {
		return &format.Error{File: file, Line: re.Line, What: re.What}
	}
	return err
}

func (a *app) loadShares() *cobra.Command {
	var server string
	c := &cobra.Command{
		Use:     "shares FILE",
		Short:   "Take a server's shares from CSV (share,folder,read_only,sddl)",
		Example: "  tarnwold load shares shares.csv --server stagedoor",
		Args:    cobra.ExactArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			rows, err := readFile(args[0], func(r io.Reader, f string) ([]format.ShareRow, error) {
				s, err := sheet.Open(r, f, sheet.Shares)
				if err != nil {
					return nil, err
				}
				return s.ReadShares()
			})
			if err != nil {
				return err
			}
			return a.alter(c.Context(), func(t *estate.Tx) (string, error) {
				s, _, err := t.ServerOrNew(server)
				if err != nil {
					return "", err
				}
				for _, r := range rows {
					sh := estate.Share{Name: r.Name, Folder: r.Folder, ReadOnly: r.ReadOnly, Descriptor: r.Descriptor}
					if err := t.AddShare(s, sh); err != nil {
						return "", &format.Error{File: args[0], Line: r.Line, What: err.Error()}
					}
				}
				done := report.Count(int64(len(rows)), "share") + " of server " + s.Name + " loaded"
				a.say("%s", done)
				return done, nil
			})
		},
	}
	c.Flags().StringVar(&server, "server", "", "the server's `name`")
	_ = c.MarkFlagRequired("server")
	return c
}

func (a *app) loadTree() *cobra.Command {
	var at string
	c := &cobra.Command{
		Use:   "tree FILE",
		Short: "Take folders and files with their rules from CSV (path,kind,sddl)",
		Long: `Take folders and files with their rules from a CSV file with the columns
path, kind and sddl: the path below the place named by --at, folder or file,
and the security descriptor in its text form. The whole file or nothing of it
is taken.`,
		Example: "  tarnwold load tree tree.csv --at stagedoor:/srv/playhouse",
		Args:    cobra.ExactArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			to, err := estate.ParseAddress(at)
			if err != nil {
				return usageError{err}
			}
			if to.Share != "" {
				return misused("--at takes a server's own path, as in stagedoor:/srv/playhouse")
			}
			// A tree is read whole before any of it is kept; collecting
			// garbage sooner halves what that takes.
			defer debug.SetGCPercent(debug.SetGCPercent(40))
			bar := a.progress(-1, "reading "+args[0])
			tree, err := readFile(args[0], func(r io.Reader, f string) (*format.Tree, error) {
				s, err := sheet.Open(r, f, sheet.Tree)
				if err != nil {
					return nil, err
				}
				return s.ReadTree(bar.set)
			})
			bar.end()
			if err != nil {
				return err
			}
			e, err := estate.Open(c.Context(), a.estatePath)
			if err != nil {
				return err
			}
			defer e.Close()
			return a.keepTree(c.Context(), e, to, args[0], tree)
		},
	}
	c.Flags().StringVar(&at, "at", "", "where the tree's top stands, as `SERVER:/FOLDER`")
	_ = c.MarkFlagRequired("at")
	return c
}

func (a *app) keepTree(ctx context.Context, e *estate.Estate, to estate.Address, file string, tree *format.Tree) error {
	bar := a.progress(len(tree.Rows), "keeping "+file)
	defer bar.end()
	m := a.meta()
	m.Bulk = true
	var done string
	_, err := e.Change(ctx, m, true, func(t *estate.Tx) (string, error) {
		s, _, err := t.ServerOrNew(to.Server)
		if err != nil {
			return "", err
		}
		if err := t.LoadTree(s, to.Path, tree, bar.set); err != nil {
			return "", inFile(file, err)
		}
		var folders int64
		for i := range tree.Rows {
			if tree.Rows[i].Folder {
				folders++
			}
		}
		done = report.Count(folders, "folder") + " and " + report.Count(int64(len(tree.Rows))-folders, "file") + " with " +
			report.Count(int64(len(tree.Bodies)), "distinct descriptor") + " loaded at " + to.String()
		return done, nil
	})
	bar.end()
	if err == nil {
		a.say("%s", done)
	}
	return err
}

// bar shows how far long work has come, on a terminal only.
type bar struct{ b *progressbar.ProgressBar }

func (a *app) progress(total int, what string) *bar {
	if !isTerminal(a.err) {
		return &bar{}
	}
	return &bar{progressbar.NewOptions(total, progressbar.OptionSetWriter(a.err), progressbar.OptionSetDescription(report.Clean(what)),
		progressbar.OptionShowCount(), progressbar.OptionClearOnFinish(), progressbar.OptionThrottle(100e6), progressbar.OptionSetWidth(30))}
}

func (b *bar) set(done int) {
	if b.b != nil {
		_ = b.b.Set(done)
	}
}

func (b *bar) end() {
	if b.b != nil {
		_ = b.b.Finish()
		b.b = nil
	}
}
