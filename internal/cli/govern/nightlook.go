package govern

import (
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"tarnwold/internal/ask/expect"
	"tarnwold/internal/ask/findings"
	"tarnwold/internal/cli/run"
	"tarnwold/internal/estate"
	"tarnwold/internal/format/exception"
	"tarnwold/internal/format/expectation"
	"tarnwold/internal/plan"
	"tarnwold/internal/plan/confirm"
	"tarnwold/internal/plan/entry"
	"tarnwold/internal/plan/policies"
	"tarnwold/internal/plan/request"
	"tarnwold/internal/plan/review"
	"tarnwold/internal/report"
	"tarnwold/internal/report/changes"
)

// What a night looks at, each a section of its page.

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
