package run

import (
	"encoding/json"
	"errors"
	"fmt"
	"runtime/debug"
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
	"tarnwold/internal/report/changes"
	"tarnwold/internal/report/doc"
	"tarnwold/internal/server/smb"
)

// usageError is a command used wrongly.
type usageError struct{ error }

func (e usageError) Unwrap() error { return e.error }

func Misused(format string, args ...any) error { return usageError{fmt.Errorf(format, args...)} }

// AsUsage makes an error one of using the program wrongly.
func AsUsage(err error) error { return usageError{err} }

// ErrNo ends a command whose answer, already printed, is no.
var ErrNo = errors.New("no")

// guarded is a change that guards refuse.
type guarded struct {
	Warnings []plan.Warning `json:"warnings"`
}

func (e *guarded) Error() string {
	says := make([]string, len(e.Warnings))
	for i, w := range e.Warnings {
		says[i] = changes.WarningText(w)
	}
	return strings.Join(says, "; ") + "; use --force to override"
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
		rows     *Unanswered
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
		return "model-alone", alone, ExitUsage
	case errors.As(err, &there):
		return "otherwise-there", there, ExitTrouble
	case errors.As(err, &broken):
		return "broken-off", broken, ExitTrouble
	case errors.As(err, &shut):
		return "unwritable", shut, ExitTrouble
	case errors.As(err, &goesOn):
		return "taking-back-broken-off", goesOn, ExitTrouble
	case errors.As(err, &back):
		return "taken-back", back, ExitTrouble
	case errors.As(err, &stopped):
		return "stopped", stopped, ExitTrouble
	case errors.As(err, &machine):
		return "other-machine", machine, ExitTrouble
	case errors.As(err, &unreach):
		return "unreached", unreach, ExitTrouble
	case errors.As(err, new(estate.Unfinished)):
		return "unfinished", nil, ExitTrouble
	case errors.As(err, &guards):
		return "guarded", guards, ExitNo
	case errors.As(err, &cannot):
		return "cannot", cannot.Tried, ExitNo
	case errors.As(err, &rows):
		return "unanswered", rows, ExitTrouble
	case errors.As(err, &file):
		return "file", file, ExitTrouble
	case errors.As(err, &notFound):
		return "not-found", notFound, ExitUsage
	case errors.As(err, &named):
		return "still-named", named, ExitUsage
	case errors.As(err, &built):
		return "built-on", built, ExitUsage
	case errors.As(err, &circle):
		return "circle", circle, ExitUsage
	case errors.As(err, &refused):
		return "refused", refused, ExitUsage
	case errors.As(err, &noPlace):
		return "no-place", noPlace, ExitUsage
	case errors.As(err, &unknown):
		return "no-level", unknown, ExitUsage
	case errors.As(err, &misused):
		return "usage", nil, ExitUsage
	case errors.Is(err, estate.ErrMoved):
		return "moved", nil, ExitTrouble
	}
	return "trouble", nil, ExitTrouble
}

func CodeOf(err error) int { _, _, code := kindOf(err); return code }

// SayError prints an error: for a person a line, for a program JSON.
func (a *App) SayError(err error, code int) {
	if a.Format != doc.JSON {
		lines := strings.Split(err.Error(), "\n")
		for i, l := range lines {
			lines[i] = doc.Clean(l)
			if len(lines[i]) > 2000 {
				lines[i] = lines[i][:2000] + "…"
			}
		}
		if p := printer(a.Err, doc.Table); p.Screen { // broken between words
			for i, l := range lines {
				if i == 0 {
					l = "tarnwold: " + l
				}
				p.Line(doc.S("%s", l))
			}
			return
		}
		fmt.Fprintln(a.Err, "tarnwold: "+strings.Join(lines, "\n"))
		return
	}
	kind, value, _ := kindOf(err)
	p := printer(a.Err, doc.JSON)
	out := Failure{Kind: kind, Message: err.Error(), Exit: code}
	if value != nil {
		if js, err := json.Marshal(value); err == nil {
			out.About = js
		}
	}
	_ = p.Give(out, nil, nil, nil)
}

// Failure is an error as a program reads it.
type Failure struct {
	About   json.RawMessage `json:"about,omitempty"` // by its kind
	Kind    string          `json:"error"`
	Exit    int             `json:"exit"`
	Message string          `json:"message"`
}

// Unanswered is an error of a batch whose other rows were answered.
type Unanswered struct {
	Rows int    `json:"rows"`
	Of   int    `json:"of"`
	What string `json:"what,omitempty"`
}

func (e *Unanswered) Error() string {
	if e.What != "" {
		return fmt.Sprintf("%d of %d %s can't be asked; each says why", e.Rows, e.Of, e.What)
	}
	return fmt.Sprintf("%d of %d rows could not be answered; each says why in the column error", e.Rows, e.Of)
}

// tight is how much memory may grow before it is collected where people are read
// by the hundred thousand, in percent.
const tight = 100

// Sparing has memory collected sooner until the function it gives is called.
func Sparing() func() {
	was := debug.SetGCPercent(tight)
	return func() { debug.SetGCPercent(was) }
}
