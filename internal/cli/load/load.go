// Package load has the commands that take in what files and servers hold.
package load

import (
	"context"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"runtime/debug"

	"github.com/spf13/cobra"

	"tarnwold/core/place"
	"tarnwold/internal/cli/run"
	"tarnwold/internal/estate"
	"tarnwold/internal/format"
	"tarnwold/internal/format/csvfile"
	"tarnwold/internal/format/exports"
	"tarnwold/internal/format/passwd"
	"tarnwold/internal/format/smbconf"
	"tarnwold/internal/plan"
	"tarnwold/internal/plan/intake"
	"tarnwold/internal/plan/people"
	"tarnwold/internal/plan/servers"
	"tarnwold/internal/report/changes"
	"tarnwold/internal/report/doc"
)

func LoadCommand(a *run.App) *cobra.Command {
	return run.Holder("load", "Load accounts, shares and trees from files",
		`  tarnwold load accounts accounts.csv members.csv
  tarnwold load shares shares.csv --server stagedoor
  tarnwold load tree tree.csv --at stagedoor:/srv/playhouse`,
		loadAccounts(a), loadShares(a), loadTree(a), loadMarks(a), loadClaims(a))
}

func loadAccounts(a *run.App) *cobra.Command {
	var k run.Keeping
	var passwdFile, groupFile string
	var entries []string
	var s Shaping
	c := &cobra.Command{
		Use:   "accounts [FILE…]",
		Short: "Load users, groups and memberships from CSV, POSIX or directories' files",
		Long: `Load users, groups and memberships from files, all of them or none, merged by
name or number in whatever order they are named.

A CSV file is told by its header row: kind,name,sid,id (and purpose, primary)
for accounts, group,member (and until) for memberships. Accounts that are in
the estate already are completed where they lack something. Where the estate
has folders already, what that opens and closes is shown before it is kept.

With --ldif it is what a directory holds, as LDIF (RFC 2849): entries, and changes
of them in the order of the files. --shape says how entries stand for accounts; what
is kept is told apart by identifier or number, so that who has another name now
stays the same. Groups for mail are in no token; disabled and expired users are
shut. The very files that were taken in last are not read again while they hold. To
keep up with a directory itself, see: tarnwold directory.`,
		Example: `  tarnwold load accounts accounts.csv members.csv
  tarnwold load accounts --passwd /etc/passwd --group /etc/group
  tarnwold load accounts --ldif domain.ldif --role 'role-*' --access 'acc-*'
  tarnwold load accounts --ldif people.ldif --ldif changes.ldif --shape rfc2307`,
		RunE: func(c *cobra.Command, files []string) error {
			if len(entries) > 0 {
				if len(files) > 0 || passwdFile != "" || groupFile != "" {
					return run.Misused("--ldif goes by itself; load other files before or after")
				}
				return loadPeople(a, c, k, entries, &s)
			}
			if len(files) == 0 && passwdFile == "" && groupFile == "" {
				return run.Misused("name a file, or --passwd and --group; see: tarnwold load accounts --help")
			}
			var lists []people.AccountFile
			add := func(file string, read func(io.Reader, string) (people.AccountFile, error)) error {
				if file == "" {
					return nil
				}
				l, err := run.ReadFile(c.Context(), file, read)
				l.File = file
				lists = append(lists, l)
				return err
			}
			for _, f := range files {
				if err := add(f, readAccounts); err != nil {
					return err
				}
			}
			err := add(passwdFile, func(r io.Reader, f string) (l people.AccountFile, err error) {
				l.Accounts, err = passwd.Users(r, f)
				return l, err
			})
			if err == nil {
				err = add(groupFile, func(r io.Reader, f string) (l people.AccountFile, err error) {
					l.POSIX = true
					l.Accounts, l.Members, err = passwd.Groups(r, f)
					return l, err
				})
			}
			if err != nil {
				return err
			}
			members := 0
			for _, l := range lists {
				members += l.Members.Len()
			}
			if members > manyMembers { // what is held then is held to the end: garbage beside it is what can be spared
				defer debug.SetGCPercent(debug.SetGCPercent(40))
			}
			return a.PreviewAndCommit(c, k, func(d *plan.Planner, o *changes.Outcome) (p *plan.Plan, err error) {
				o.Brief = true
				p, o.Loaded, err = people.LoadAccounts(d, lists)
				return p, err
			})
		},
	}
	k.PlainFlags(c)
	k.LoseFlag(c)
	c.Flags().StringVar(&passwdFile, "passwd", "", "a `file` in the form of passwd(5)")
	c.Flags().StringVar(&groupFile, "group", "", "a `file` in the form of group(5)")
	c.Flags().StringArrayVar(&entries, "ldif", nil, "a `file` of a directory's entries, or of changes of them")
	s.Flags(c)
	return c
}

// manyMembers is from how many memberships on a load is careful with memory.
const manyMembers = 500_000

func readAccounts(r io.Reader, file string) (l people.AccountFile, err error) {
	s, err := csvfile.Open(r, file, csvfile.Accounts, csvfile.Members)
	if err != nil {
		return l, err
	}
	if s.Kind == csvfile.Accounts {
		l.Accounts, err = s.ReadAccounts()
		l.Further = s.Further
	} else {
		l.Members, err = s.ReadMembers()
	}
	return l, err
}

func loadShares(a *run.App) *cobra.Command {
	var k run.Keeping
	var to, config, exported, homes string
	c := &cobra.Command{
		Use:   "shares [FILE]",
		Short: "Load a server's shares from CSV (share,folder,read_only,sddl), or its own configuration",
		Long: `Load a server's shares from a CSV file with the columns share, folder, read_only
and sddl. With --config it is an SMB server's own configuration file instead, and
what that says of shares beside their rules: the folder, read only, valid and
invalid users, read and write lists, admin users, forced user and group, and
whether what can't be read is hidden. It counts in every answer, and is named as
the reason. Shares the estate has keep their rules. Files that it includes are read
where they lie beside it; what "net conf list" prints is read too. For [homes] each
user whose folder the estate has gets the share of their own name. What hangs on who
connects, from where, or isn't known is said.

With --exports it is a table of exports(5): ro and rw, root_squash, all_squash,
anonuid and anongid count in every answer; which machine somebody comes from does
not, and is shown. Each way in which a folder is exported is a share, named by its
path with - for /.`,
		Example: "  tarnwold load shares shares.csv --server stagedoor\n  tarnwold load shares --config smb.conf --server stagedoor\n  tarnwold load shares --exports /etc/exports --server propstore",
		Args: func(c *cobra.Command, args []string) error {
			if config != "" && exported != "" {
				return run.Misused("give --config or --exports, not both")
			}
			if homes != "" && config == "" {
				return run.Misused("--passwd goes with --config")
			}
			if config != "" || exported != "" {
				return cobra.NoArgs(c, args)
			}
			return cobra.ExactArgs(1)(c, args)
		},
		RunE: func(c *cobra.Command, args []string) error {
			if exported != "" {
				found, err := run.ReadFile(c.Context(), exported, exports.Read)
				if err != nil {
					return err
				}
				k.Model = true // the file is where it is so already
				return a.PreviewAndCommit(c, k, func(d *plan.Planner, o *changes.Outcome) (*plan.Plan, error) {
					return servers.Exports(d, to, filepath.Base(exported), found)
				})
			}
			if config != "" {
				return configure(a, c, k, to, config, homes)
			}
			rows, err := run.ReadFile(c.Context(), args[0], func(r io.Reader, f string) ([]format.ShareRow, error) {
				s, err := csvfile.Open(r, f, csvfile.Shares)
				if err != nil {
					return nil, err
				}
				return s.ReadShares()
			})
			if err != nil {
				return err
			}
			return a.PreviewAndCommit(c, k, func(d *plan.Planner, o *changes.Outcome) (*plan.Plan, error) {
				o.Brief = true
				return servers.LoadShares(d, to, args[0], rows)
			})
		},
	}
	k.PlainFlags(c)
	c.Flags().StringVar(&to, "server", "", "the server's `name`")
	c.Flags().StringVar(&exported, "exports", "", "a `file` of exports(5)")
	c.Flags().StringVar(&config, "config", "", "an SMB server's own configuration `file`")
	c.Flags().StringVar(&homes, "passwd", "", "with --config: the server's passwd `file`, which says where each user's home is")
	_ = c.MarkFlagRequired("server")
	_ = c.RegisterFlagCompletionFunc("server", a.CompleteServers)
	return c
}

// configure takes in what a server's own configuration says of its shares.
func configure(a *run.App, c *cobra.Command, k run.Keeping, to, file, passwdFile string) error {
	ctx := c.Context()
	beside := func(name string) (io.ReadCloser, error) {
		return openBeside(ctx, filepath.Dir(file), name)
	}
	got, err := run.ReadFile(ctx, file, func(r io.Reader, f string) (*smbconf.Config, error) { return smbconf.Read(r, f, beside) })
	if err != nil {
		return err
	}
	var homes map[string]string
	if passwdFile != "" {
		if homes, err = run.ReadFile(ctx, passwdFile, passwd.Homes); err != nil {
			return err
		}
	}
	var besides []string
	k.Model = true // the file is where it is so already
	err = a.PreviewAndCommit(c, k, func(d *plan.Planner, o *changes.Outcome) (p *plan.Plan, err error) {
		p, besides, err = servers.Configure(d, to, filepath.Base(file), got, homes)
		return p, err
	})
	for _, n := range got.Notes {
		f := file
		if n.File != "" {
			f = n.File
		}
		fmt.Fprintf(a.Err, "note: %s, line %d: %s\n", doc.Clean(f), n.Line, doc.Clean(n.What))
	}
	for _, n := range besides {
		fmt.Fprintf(a.Err, "note: %s: %s\n", doc.Clean(file), doc.Clean(n))
	}
	return err
}

// openBeside opens an ordinary file of a folder, by its name alone and through no link.
func openBeside(ctx context.Context, dir, name string) (io.ReadCloser, error) {
	root, err := os.OpenRoot(dir)
	if err != nil {
		return nil, err
	}
	defer root.Close()
	if info, err := root.Lstat(name); err != nil || !info.Mode().IsRegular() {
		return nil, fs.ErrNotExist
	}
	f, err := root.Open(name)
	if err != nil {
		return nil, err
	}
	if info, err := f.Stat(); err != nil || !info.Mode().IsRegular() {
		f.Close()
		return nil, fs.ErrNotExist
	}
	return struct {
		io.Reader
		io.Closer
	}{&run.Stopping{Ctx: ctx, R: f}, f}, nil
}

// serversOwn reads what --at says: a server's own path.
func serversOwn(at string) (place.Address, error) {
	to, err := place.ParsePlain(at)
	if err == nil && to.Share != "" {
		err = run.Misused("--at takes a server's own path, as in stagedoor:/srv/playhouse")
	}
	return to, err
}

func loadTree(a *run.App) *cobra.Command {
	var at string
	var posix bool
	c := &cobra.Command{
		Use:   "tree FILE",
		Short: "Load folders and files with their rules from CSV (path,kind,sddl)",
		Long: `Load folders and files with their rules from a CSV file with the columns
path, kind and sddl: the path below the place named by --at, folder or file,
and the security descriptor in its text form. The whole file or nothing of it
is taken; a place that is in the estate already is left alone.

With --posix it is a tree of a POSIX system, with the columns path, kind, owner,
group, mode, access_acl and default_acl: owner and group by name or by number,
the mode in octal or in letters, and the lists in the text form of POSIX.1e
draft 17 (the last two columns may be empty, or missing). Load the accounts
before it. Numbers that no account has are kept as they are.`,
		Example: "  tarnwold load tree tree.csv --at stagedoor:/srv/playhouse\n  tarnwold load tree --posix tree.csv --at propstore:/srv/props",
		Args:    cobra.ExactArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			to, err := serversOwn(at)
			if err != nil {
				return err
			}
			if err := a.View(c.Context(), func(*estate.Tx) error { return nil }); err != nil { // before a long file is read
				return err
			}
			// A tree is read whole before any of it is kept; collecting
			// garbage sooner halves what that takes.
			defer debug.SetGCPercent(debug.SetGCPercent(40))
			bar := a.Progress(-1, "reading "+args[0])
			tree, err := run.ReadFile(c.Context(), args[0], func(r io.Reader, f string) (*format.Tree, error) {
				if posix {
					return readPosixTree(a, c.Context(), r, f, bar.Set)
				}
				s, err := csvfile.Open(r, f, csvfile.Tree)
				if err != nil {
					return nil, err
				}
				tree, err := s.ReadTree(bar.Set)
				if err == nil {
					err = tree.Arrange()
				}
				return tree, run.InFile(f, err)
			})
			bar.End()
			if err != nil {
				return err
			}
			if err := a.View(c.Context(), func(t *estate.Tx) error { return intake.MayLoad(t, to) }); err != nil {
				return err
			}
			return keepTree(a, c.Context(), tree, to, "keeping "+args[0])
		},
	}
	c.Flags().StringVar(&at, "at", "", "where the tree's top stands, as `SERVER:/FOLDER`")
	c.Flags().BoolVar(&posix, "posix", false, "the tree is one of a POSIX system: owners, groups, modes and lists")
	_ = c.MarkFlagRequired("at")
	return c
}

// readPosixTree reads a tree of a POSIX system by the estate's accounts.
func readPosixTree(a *run.App, ctx context.Context, r io.Reader, file string, step func(int)) (tree *format.Tree, err error) {
	s, err := csvfile.Open(r, file, csvfile.PosixTree)
	if err != nil {
		return nil, err
	}
	err = a.View(ctx, func(t *estate.Tx) error {
		tree, err = s.ReadPosixTree(plan.Posixers(t), step)
		if err == nil {
			err = tree.Arrange()
		}
		return run.InFile(file, err)
	})
	return tree, err
}

// keepTree keeps a tree that is arranged, or can be, in a change of its own.
func keepTree(a *run.App, ctx context.Context, tree *format.Tree, to place.Address, what string) error {
	e, done, err := a.Open(ctx)
	if err != nil {
		return err
	}
	defer done()
	bar := a.Progress(tree.Len(), what)
	defer bar.End()
	m := estate.Meta{Actor: a.Who(), Command: run.Command(a.Shown), Head: estate.Any, Bulk: true}
	said := intake.TreeLoaded(tree, to)
	id, err := e.Change(ctx, m, func(t *estate.Tx) (string, error) {
		return said, intake.LoadTree(t, to, tree, bar.Set)
	})
	bar.End()
	if err != nil {
		return err
	}
	return changes.Done(a.Printer(), said, id)
}
