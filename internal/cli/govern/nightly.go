// Package govern has the commands of keepers, requests, policies, findings and
// nights.
package govern

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"tarnwold/internal/ask"
	"tarnwold/internal/ask/expect"
	"tarnwold/internal/cli/asks"
	"tarnwold/internal/cli/run"
	"tarnwold/internal/estate"
	"tarnwold/internal/newfile"
	"tarnwold/internal/plan"
	"tarnwold/internal/plan/request"
	"tarnwold/internal/report/changes"
	"tarnwold/internal/report/doc"
)

// night is what nightly is to look at.
type night struct {
	to          string
	expect      []string
	metrics     string
	except      string
	passwords   []string
	due         string
	mode        string
	leave, scan bool
	report      bool // nothing is kept
	keep        int  // so many nights' pages stay; 0: all
	backup      string
	backups     int // so many backups stay; 0: all
}

func NightlyCommand(a *run.App) *cobra.Command {
	var n night
	c := &cobra.Command{
		Use:   "nightly",
		Short: "Look at everything once a night: one page, one short summary, one exit code",
		Long: `Look at everything once a night: read the directories and the linked servers, take
away what is over, check expectations and laid policies, look for findings, conflicting duties,
requests that wait, and reviews that aren't answered. It writes a dated page into a folder, with what
it is drawn from beside it, and prints a short summary: what is new since the
last night.

Exit code 0: all is as it should be; 1: something is left to look at; 3: something
could not be done, such as a server that doesn't answer; the rest is done.

--keep leaves the pages of so many nights in the folder, and takes older ones away. --backup
writes the estate into a folder as well, a file a night; --backups leaves so many of them.

A systemd timer and service and a line for cron come with the packages.`,
		Example: `  tarnwold nightly --to /var/lib/tarnwold/nights --expect house.expect --except house.except
  tarnwold nightly --to nights --password-file stagedoor=/etc/tarnwold/stagedoor.secret
  tarnwold nightly --to nights --keep 90 --backup /var/backups/tarnwold --backups 14`,
		Args: cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error { return nightly(a, c, n) },
	}
	f := c.Flags()
	f.StringVar(&n.to, "to", "", "the `folder` the pages go to; it is made")
	f.StringArrayVar(&n.expect, "expect", nil, "a `file` of expectations; may be given again")
	exceptFlag(c, &n.except)
	f.StringArrayVar(&n.passwords, "password-file", nil, "`NAME=FILE`: the file that holds the password for a server or directory; may be given again")
	f.StringVar(&n.due, "due", "3d", "tell of requests waiting longer than this `time`")
	f.BoolVar(&n.leave, "leave-expired", false, "tell what is over, and don't take it away")
	f.StringVar(&n.metrics, "metrics", "", "write counts and times to this `file` too, as OpenMetrics text")
	f.IntVar(&n.keep, "keep", 0, "keep the pages of the last `N` nights, and take older ones away (default: all)")
	f.StringVar(&n.backup, "backup", "", "write the estate into this `folder` too, as estate-DATE.estate; it is made")
	f.IntVar(&n.backups, "backups", 0, "keep the last `N` backups in that folder, and take older ones away (default: all)")
	f.StringVar(&n.mode, "mode", "0640", "the permissions of the pages, in `octal`")
	f.BoolVar(&n.report, "report-only", false, "keep nothing: tell what differs on the servers and in the directories, and what is over")
	f.BoolVar(&n.scan, "no-scan", false, "read neither the linked servers nor the directories")
	_ = c.MarkFlagRequired("to")
	return c
}

func nightly(a *run.App, c *cobra.Command, n night) error {
	ctx := c.Context()
	longer, err := age(n.due)
	if err != nil {
		return err
	}
	secrets := map[string]string{} // files of passwords, by server
	for _, x := range n.passwords {
		server, file, ok := strings.Cut(x, "=")
		if !ok {
			return run.Misused("--password-file is %q; wanted NAME=FILE", doc.Clip(x))
		}
		secrets[estate.Key(server)] = file
	}
	mode, err := strconv.ParseUint(n.mode, 8, 32)
	if err != nil || mode&^0o777 != 0 || mode&0o600 != 0o600 {
		return run.Misused("--mode is %q; wanted permissions in octal that let you read and write, like 0640", doc.Clip(n.mode))
	}
	switch {
	case n.keep < 0 || n.backups < 0:
		return run.Misused("--keep and --backups take how many stay, 1 or more")
	case n.backups > 0 && n.backup == "":
		return run.Misused("--backups goes with --backup")
	}
	// A mistake in a file is told before anything is done.
	except, err := readExceptions(ctx, n.except)
	if err != nil {
		return err
	}
	lines, of, err := asks.ReadExpectations(ctx, n.expect, false)
	if err != nil {
		return err
	}
	if err := os.MkdirAll(n.to, 0o700); err != nil {
		return err
	}
	now := time.Now()
	measured := &changes.Measured{Kinds: map[string]int{}, Scans: map[string]time.Time{}}
	out := &changes.Night{At: now.UTC().Format(time.RFC3339), Estate: a.EstatePath}
	if !n.scan {
		if err := nightSyncs(a, c, out, &n, secrets); err != nil {
			return err
		}
		if err := nightScans(a, c, out, &n, secrets); err != nil {
			return err
		}
	}
	nightExpired(a, c, out, n.leave || n.report)
	if err := a.View(ctx, func(t *estate.Tx) error {
		d, x := plan.New(t, a.Who()), expect.NewExpecting(ask.New(t))
		for _, look := range []func() error{
			func() (err error) { measured.Failed, err = nightExpects(out, x, lines, of, n.expect); return err },
			func() error { return nightPolicies(out, t, d, x) },
			func() error { return nightFindings(out, d, except, measured.Kinds) },
			func() error { return nightDuties(out, d, except) },
			func() error { return nightRequests(out, d, longer) },
			func() error { return nightReviews(out, d) },
			func() error { return nightProof(out, t) },
			func() error {
				for _, s := range t.Servers() {
					if _, real := t.Link(s); real {
						measured.Scans[s.Name] = t.Scanned(s)
					}
				}
				return nil
			},
		} {
			if err := look(); err != nil {
				return err
			}
		}
		return t.Err()
	}); err != nil {
		return err
	}
	if n.backup != "" {
		if err := nightBackup(a, c, out, &n, now); err != nil {
			return err
		}
	}
	last, bad, err := lastNight(n.to, now)
	if err != nil {
		return err
	}
	if len(bad) > 0 {
		s := out.Section("nights", "The nights before")
		for _, name := range bad {
			s.Add(name, name, "it can't be read as what a night left, and was passed over", true)
		}
	}
	out.Compare(last)
	if err := writeNight(a, n.to, os.FileMode(mode), now, out); err != nil {
		return err
	}
	if err := prune(n.to, nightPage, n.keep, now); err != nil {
		return err
	}
	if n.metrics != "" {
		measured.Ended, measured.Took = time.Now(), time.Since(now)
		if err := newfile.Write(n.metrics, 0o644, out.Metrics(measured)); err != nil {
			return err
		}
	}
	if err := changes.WriteNight(a.Printer(), out); err != nil {
		return err
	}
	switch {
	case out.Trouble() > 0:
		return &unfinishedNight{out.Trouble()}
	case out.Left() > 0:
		return run.ErrNo
	}
	return nil
}

// unfinishedNight is a night on which something could not be done.
type unfinishedNight struct {
	Things int `json:"things"`
}

func (e *unfinishedNight) Error() string {
	if e.Things == 1 {
		return "one thing could not be done; the page says which"
	}
	return fmt.Sprintf("%d things could not be done; the page says which", e.Things)
}

func dutyAbout(d *request.Duty) (string, []string) { return d.Kind, []string{d.Who, d.Group, d.Where} }

// within runs another command of the program, and gives what it said.
func within(a *run.App, c *cobra.Command, args []string) (int, string) {
	var out bytes.Buffer
	in := &run.App{Commands: a.Commands, In: strings.NewReader(""), Out: &out, Err: &out, Actor: a.Who(), Home: a.EstatePath, Shown: args}
	code := in.Run(c.Context(), args)
	return code, out.String()
}

func lastLine(s string) string {
	all := strings.Split(strings.TrimSpace(s), "\n")
	return strings.TrimPrefix(strings.TrimSpace(all[len(all)-1]), "tarnwold: ")
}

const nightName = "night-"

// lastNight reads what the last night before this one left, and names what
// can't be read of it.
func lastNight(dir string, now time.Time) (last *changes.Night, bad []string, err error) {
	names, err := filepath.Glob(filepath.Join(dir, nightName+"*.json"))
	if err != nil {
		return nil, nil, err
	}
	slices.Sort(names)
	mine := filepath.Join(dir, nightName+now.Format(time.DateOnly)+".json")
	for _, name := range slices.Backward(names) {
		if name >= mine {
			continue
		}
		text, err := os.ReadFile(name)
		if errors.Is(err, fs.ErrNotExist) {
			continue
		}
		if err != nil {
			return nil, nil, err
		}
		n := &changes.Night{}
		if err := json.Unmarshal(text, n); err != nil {
			bad = append(bad, name)
			continue
		}
		n.Day = strings.TrimSuffix(strings.TrimPrefix(filepath.Base(name), nightName), ".json")
		return n, bad, nil
	}
	return nil, bad, nil
}

// writeNight puts the page and what it is drawn from into the folder.
func writeNight(a *run.App, dir string, mode os.FileMode, now time.Time, n *changes.Night) error {
	n.Day = now.Format(time.DateOnly)
	base := filepath.Join(dir, nightName+n.Day)
	js, err := json.MarshalIndent(n, "", "  ")
	if err != nil {
		return err
	}
	var page bytes.Buffer
	p := &doc.Printer{W: &page, Format: doc.Page}
	if err := changes.NightPage(p, n); err != nil {
		return err
	}
	n.Page = base + ".html"
	for name, text := range map[string][]byte{base + ".json": append(js, '\n'), n.Page: page.Bytes()} {
		if err := newfile.Write(name, mode, text); err != nil {
			return err
		}
	}
	return nil
}
