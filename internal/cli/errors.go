package cli

import (
	"encoding/json"
	"errors"
	"fmt"
	"strings"

	"tarnwold/core/place"
	"tarnwold/core/right"
	"tarnwold/internal/estate"
	"tarnwold/internal/format"
	"tarnwold/internal/live"
	"tarnwold/internal/plan"
	"tarnwold/internal/plan/item"
	"tarnwold/internal/plan/people"
	"tarnwold/internal/plan/undo"
	"tarnwold/internal/report"
	"tarnwold/internal/server/smb"
)

// usageError is a command used wrongly.
type usageError struct{ error }

func (e usageError) Unwrap() error { return e.error }

func misused(format string, args ...any) error { return usageError{fmt.Errorf(format, args...)} }

// asUsage makes an error one of using the program wrongly.
func asUsage(err error) error { return usageError{err} }

// errNo ends a command whose answer, already printed, is no.
var errNo = errors.New("no")

// guarded is a change that guards refuse.
type guarded struct {
	Warnings []plan.Warning `json:"warnings"`
}

func (e *guarded) Error() string {
	says := make([]string, len(e.Warnings))
	for i, w := range e.Warnings {
		says[i] = report.WarningText(w)
	}
	return strings.Join(says, "; ") + "; insist with --force"
}

// kinds names the errors a program can look into, and their exit codes.
func kindOf(err error) (kind string, value any, code int) {
	var (
		misused  usageError
		notFound *estate.NotFound
		refused  *estate.Refused
		unknown  *right.NameError
		noPlace  *place.Error
		named    *people.StillNamed
		built    *undo.BuiltOn
		circle   *people.Circle
		guards   *guarded
		file     *format.Error
		rows     *unanswered
		cannot   *item.Cannot
		alone    *plan.ModelAlone
		there    *live.Otherwise
		broken   *live.Broken
		back     *live.Back
		goesOn   *live.BackBroken
		shut     *live.Unwritable
		stopped  *live.Stopped
		unreach  *smb.Unreached
		machine  *live.OtherMachine
	)
	switch {
	case errors.As(err, &alone):
		return "model-alone", alone, exitUsage
	case errors.As(err, &there):
		return "otherwise-there", there, exitTrouble
	case errors.As(err, &broken):
		return "broken-off", broken, exitTrouble
	case errors.As(err, &shut):
		return "unwritable", shut, exitTrouble
	case errors.As(err, &goesOn):
		return "taking-back-broken-off", goesOn, exitTrouble
	case errors.As(err, &back):
		return "taken-back", back, exitTrouble
	case errors.As(err, &stopped):
		return "stopped", stopped, exitTrouble
	case errors.As(err, &machine):
		return "other-machine", machine, exitTrouble
	case errors.As(err, &unreach):
		return "unreached", unreach, exitTrouble
	case errors.As(err, new(estate.Unfinished)):
		return "unfinished", nil, exitTrouble
	case errors.As(err, &guards):
		return "guarded", guards, exitNo
	case errors.As(err, &cannot):
		return "cannot", cannot.Tried, exitNo
	case errors.As(err, &rows):
		return "unanswered", rows, exitTrouble
	case errors.As(err, &file):
		return "file", file, exitTrouble
	case errors.As(err, &notFound):
		return "not-found", notFound, exitUsage
	case errors.As(err, &named):
		return "still-named", named, exitUsage
	case errors.As(err, &built):
		return "built-on", built, exitUsage
	case errors.As(err, &circle):
		return "circle", circle, exitUsage
	case errors.As(err, &refused):
		return "refused", refused, exitUsage
	case errors.As(err, &noPlace):
		return "no-place", noPlace, exitUsage
	case errors.As(err, &unknown):
		return "no-level", unknown, exitUsage
	case errors.As(err, &misused):
		return "usage", nil, exitUsage
	case errors.Is(err, estate.ErrMoved):
		return "moved", nil, exitTrouble
	}
	return "trouble", nil, exitTrouble
}

func codeOf(err error) int { _, _, code := kindOf(err); return code }

// sayError prints an error: for a person a line, for a program JSON.
func (a *app) sayError(err error, code int) {
	if a.format != report.JSON {
		lines := strings.Split(err.Error(), "\n")
		for i, l := range lines {
			lines[i] = report.Clean(l)
			if len(lines[i]) > 2000 {
				lines[i] = lines[i][:2000] + "…"
			}
		}
		fmt.Fprintln(a.err, "tarnwold: "+strings.Join(lines, "\n"))
		return
	}
	kind, value, _ := kindOf(err)
	p := &report.Printer{W: a.err, Format: report.JSON, Screen: isTerminal(a.err)}
	out := map[string]any{"error": kind, "message": err.Error(), "exit": code}
	if value != nil {
		if js, err := json.Marshal(value); err == nil {
			out["about"] = json.RawMessage(js)
		}
	}
	p.Value(out)
}
