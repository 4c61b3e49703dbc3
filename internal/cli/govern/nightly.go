// Package govern has the commands of keepers, requests, policies, findings and
// nights.
package govern

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"
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
	"tarnwold/internal/ask/findings"
	"tarnwold/internal/cli/asks"
	"tarnwold/internal/cli/run"
	"tarnwold/internal/estate"
	"tarnwold/internal/format/exception"
	"tarnwold/internal/format/expectation"
	"tarnwold/internal/newfile"
	"tarnwold/internal/plan"
	"tarnwold/internal/plan/confirm"
	"tarnwold/internal/plan/entry"
	"tarnwold/internal/plan/policies"
	"tarnwold/internal/plan/request"
	"tarnwold/internal/plan/review"
	"tarnwold/internal/report"
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

// nightScans scans the linked servers, each by its own command. What somebody
// changed there is taken in, and is something to look at.
func nightScans(a *run.App, c *cobra.Command, out *changes.Night, n *night, secrets map[string]string) error {
	var linked []string
	if err := a.View(c.Context(), func(t *estate.Tx) error {
		for _, s := range t.Servers() {
			if _, ok := t.Link(s); ok {
				linked = append(linked, s.Name)
			}
		}
		return t.Err()
	}); err != nil {
		return err
	}
	s := out.Section("scans", "The servers")
	for _, name := range linked {
		args := []string{"scan", name, "--yes"}
		if n.report {
			args[2] = "--report-only"
		}
		nightTakes(a, c, s, name, args, secrets)
	}
	if len(linked) == 0 {
		s.Fine = append(s.Fine, "no server is linked to a real one")
	}
	return c.Context().Err()
}

// nightSyncs reads the directories, each by its own command.
func nightSyncs(a *run.App, c *cobra.Command, out *changes.Night, n *night, secrets map[string]string) error {
	var names []string
	if err := a.View(c.Context(), func(t *estate.Tx) error {
		list, err := plan.Directories(t)
		for _, d := range list {
			names = append(names, d.Name)
		}
		return err
	}); err != nil {
		return err
	}
	if len(names) == 0 {
		return nil
	}
	s := out.Section("directories", "The directories")
	for _, name := range names {
		args := []string{"directory", "sync", name, "--yes"}
		if n.report {
			args[3] = "--dry-run"
		}
		nightTakes(a, c, s, name, args, secrets)
	}
	return c.Context().Err()
}

// nightTakes runs a command that takes something in, and adds what it found.
func nightTakes(a *run.App, c *cobra.Command, s *changes.NightSection, name string, args []string, secrets map[string]string) {
	if f := secrets[estate.Key(name)]; f != "" {
		args = append(args, "--password-file", f)
	}
	code, said := within(a, c, append(args, "--format", "json"))
	looks, came := len(s.Items), int64(0)
	unread := false
	for in := json.NewDecoder(strings.NewReader(said)); ; {
		var o struct {
			plan.Plan
			Kept    int64  `json:"kept-as"`
			Error   string `json:"error"`
			Message string `json:"message"`
		}
		err := in.Decode(&o)
		if errors.Is(err, io.EOF) {
			break
		}
		switch {
		case err != nil:
			unread = true
		case o.Error != "" && o.Error != "guarded":
			s.Add(name, name, o.Message, true)
		default:
			came += s.AddTaken(name, &o.Plan, o.Kept)
			continue
		}
		break
	}
	if unread || code > run.ExitNo && len(s.Items) == looks {
		s.Add(name, name, lastLine(said), true)
	}
	if len(s.Items) > looks {
		return
	}
	says := "as it was"
	if came > 0 {
		says = report.Count(came, "item") + " came or went"
	}
	s.Fine = append(s.Fine, name+": "+says)
}

// nightExpired takes away what is over, or only tells of it.
func nightExpired(a *run.App, c *cobra.Command, out *changes.Night, leave bool) {
	s := out.Section("last-days", "Last days that are over")
	args := []string{"expire", "--yes", "--format", "json"}
	if leave {
		args[1] = "--dry-run"
	}
	code, said := within(a, c, args)
	var ended struct {
		Ended []entry.Ended `json:"ended"`
		Kept  int64         `json:"kept-as"`
	}
	if err := json.Unmarshal([]byte(said), &ended); code > run.ExitNo || err != nil {
		s.Add("expire", "expire", lastLine(said), true)
		return
	}
	for _, e := range ended.Ended {
		text := fmt.Sprintf("%s until %s", e.What, e.Until)
		if ended.Kept != 0 {
			s.Fine = append(s.Fine, fmt.Sprintf("%s: %s: taken away, change %d", e.Where, text, ended.Kept))
		} else {
			s.Add(e.Where+e.What, e.Where, text+": still opens", false)
		}
	}
}

func nightExpects(out *changes.Night, x *expect.Expecting, lines []expectation.Line, of, files []string) (failed int, err error) {
	s := out.Section("expectations", "Expectations")
	held := 0
	for _, file := range files { // as a new installation has it, or one that lost what it had
		if !slices.Contains(of, file) {
			s.Add(file, file, "the file has no expectations", false)
		}
	}
	for i := range lines {
		got, err := x.Expect(review.Expects(&lines[i], of[i]))
		if err != nil {
			return 0, err
		}
		if got.Holds {
			held++
		} else {
			s.Add(got.File+got.Text, fmt.Sprintf("%s:%d: %s", got.File, got.Line, got.Text), report.Against(got), got.Error != "")
		}
	}
	if len(files) == 0 {
		s.Fine = append(s.Fine, "no file of them was named")
	} else {
		s.Fine = append(s.Fine, fmt.Sprintf("%d of %d hold", held, len(lines)))
	}
	return len(lines) - held, nil
}

func nightPolicies(out *changes.Night, t *estate.Tx, d *plan.Planner, x *expect.Expecting) error {
	s := out.Section("policies", "Policies")
	laid, err := policies.Policies(t)
	if err != nil {
		return err
	}
	for i := range laid {
		f, err := policies.DriftOf(d, &laid[i], x.Expect)
		if err != nil {
			s.Add(laid[i].Name, "policy "+laid[i].Name, err.Error(), true)
			continue
		}
		for _, l := range f.Lines {
			s.Add(f.Policy+l.Where+string(l.Line.Sign)+l.Line.Text, l.Where, changes.Off(f.Policy, &l), false)
		}
		for _, e := range f.Unmet {
			s.Add(f.Policy+e.Text, "policy "+f.Policy, "expects: "+e.Text+"; "+report.Against(e), false)
		}
		if len(f.Lines)+len(f.Unmet) == 0 {
			s.Fine = append(s.Fine, f.Policy+" is as it was laid")
		}
	}
	return nil
}

func nightFindings(out *changes.Night, d *plan.Planner, except exception.List, kinds map[string]int) error {
	s := out.Section("findings", "Findings")
	found, err := review.Findings(d, "", nil)
	if err != nil {
		return err
	}
	found, meant := excepted(except, found, waysTo(d.T))
	for _, kind := range findings.FindingKinds() {
		kinds[kind] = 0
	}
	for i := range found {
		kinds[found[i].Kind]++
		s.AddFinding(found[i].Key(), &found[i])
	}
	s.Meant(meant)
	return nil
}

func nightDuties(out *changes.Night, d *plan.Planner, except exception.List) error {
	s := out.Section("duties", "Conflicting duties")
	duties, err := request.Duties(d)
	if err != nil {
		return err
	}
	duties, meant := exception.Split(except, duties, string(estate.Today()), dutyAbout)
	for i := range duties {
		y := &duties[i]
		s.Add(y.Kind+y.Who+y.Group+y.Where, y.Who, changes.DutyText(y), false)
	}
	s.Meant(meant)
	return nil
}

func nightRequests(out *changes.Night, d *plan.Planner, longer time.Duration) error {
	s := out.Section("requests", "Requests that wait")
	waiting, err := request.Requested(d, false, "", max(longer, 1))
	if err != nil {
		return err
	}
	for i := range waiting {
		r := waiting[i].Request
		s.Add(fmt.Sprint(r.Number), fmt.Sprintf("request %d", r.Number),
			fmt.Sprintf("%s on %s for %s, for %s", r.Level, r.Where, strings.Join(r.Names(), ", "), report.Count(int64(waiting[i].Waiting), "day")), false)
	}
	return nil
}

// nightReviews tells which reviews aren't answered, and whose part of them isn't.
func nightReviews(out *changes.Night, d *plan.Planner) error {
	all, err := confirm.Reviews(d.T)
	if err != nil || len(all) == 0 {
		return err
	}
	s := out.Section("reviews", "Reviews that are open")
	for i := range all {
		if all[i].State != confirm.Open {
			continue
		}
		x, err := confirm.StatusOf(d.T, &all[i])
		if err != nil {
			return err
		}
		due := ""
		switch {
		case x.Overdue:
			due = ", overdue since " + x.Due
		case x.Due != "":
			due = ", due " + x.Due
		}
		if x.Answered == x.Rows {
			s.Add(x.Review, "review "+x.Review, "all is answered"+due+"; tarnwold review close "+x.Review, false)
			continue
		}
		for _, part := range x.Parts {
			if n := part.Rows - part.Answered; n > 0 {
				s.Add(x.Review+" "+part.Part, "review "+x.Review, fmt.Sprintf("%s: %s not answered%s", part.Part, report.Count(int64(n), "row"), due), false)
			}
		}
	}
	return nil
}

// nightProof tells the journal's newest proof, so that the page is where it is
// kept elsewhere.
func nightProof(out *changes.Night, t *estate.Tx) error {
	if p, ok := t.HeadProof(); ok {
		s := out.Section("journal", "The journal")
		s.Fine = append(s.Fine, fmt.Sprintf("change %d, proof %s", p.Change, p.Hash))
	}
	return t.Err()
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
