package asks

import (
	"bufio"
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"strings"

	"github.com/spf13/cobra"

	"tarnwold/internal/cli/run"
	"tarnwold/internal/estate"
	"tarnwold/internal/format"
	"tarnwold/internal/report/doc"
	"tarnwold/internal/store"
)

func QuestionsCommand(a *run.App) *cobra.Command {
	return &cobra.Command{
		Use:   "questions FILE",
		Short: "Answer many questions of any kind, one a line, as JSON lines",
		Long: `Answer many questions of any kind kept in a file, one a line, each as it would be
typed without "tarnwold" before it: explain ines //stagedoor/vault, who …,
reach … --if "…". Empty lines and lines that begin with # are passed over.

All are answered on the estate as it stands when the first is asked. Each
answer is one line of JSON: the line's number, the question, the exit code it
would have, and its answer or error. Exit code 3 says that one of them could
not be answered.`,
		Example: `  tarnwold questions nightly.txt`,
		Args:    cobra.ExactArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			list, err := run.ReadFile(c.Context(), args[0], ReadQuestions)
			if err != nil {
				return err
			}
			return questions(a, c.Context(), list)
		},
	}
}

// asked is one question of a file.
type asked struct {
	line int
	Text string
}

// mostQuestions is how many questions a file may hold, and how long one may be.
const (
	mostQuestions = 1_000_000
	longestLine   = 1 << 16
)

func ReadQuestions(r io.Reader, file string) (out []asked, err error) {
	s := bufio.NewScanner(r)
	s.Buffer(make([]byte, 0, 4096), longestLine)
	line := 0
	wrong := func(what string) error { return &format.Error{File: file, Line: line, What: what} }
	for s.Scan() {
		line++
		text := strings.TrimSpace(strings.TrimPrefix(s.Text(), "\ufeff"))
		if text == "" || text[0] == '#' {
			continue
		}
		if out = append(out, asked{line, text}); len(out) > mostQuestions {
			return nil, wrong(fmt.Sprintf("more than %d questions", mostQuestions))
		}
	}
	if errors.Is(s.Err(), bufio.ErrTooLong) {
		line++
		return nil, wrong(fmt.Sprintf("the line is longer than %d bytes", longestLine))
	}
	return out, s.Err()
}

// answered is the answer to one of many questions.
type answered struct {
	Line     int             `json:"line"`
	Question string          `json:"question"`
	Exit     int             `json:"exit"`
	Answer   json.RawMessage `json:"answer,omitempty"`
	Error    json.RawMessage `json:"error,omitempty"`
}

// questions answers one after the other on one moment's estate.
func questions(a *run.App, ctx context.Context, list []asked) error {
	e, done, err := a.Open(ctx)
	if err != nil {
		return err
	}
	defer done()
	bar := a.Progress(len(list), "answering")
	defer bar.End()
	bad := 0
	w := &doc.Printer{W: a.Out, Format: doc.JSON, Screen: run.IsTerminal(a.Out)}
	err = e.Private(ctx, func(p *estate.Estate) error {
		for i, q := range list {
			if ctx.Err() != nil {
				return store.ErrStopped
			}
			x := askOne(a, ctx, p, q)
			if x.Exit > run.ExitNo {
				bad++
			}
			if err := w.JSONLine(x); err != nil {
				return err
			}
			bar.Set(i + 1)
		}
		return nil
	})
	if err == nil && bad > 0 {
		err = &run.Unanswered{Rows: bad, Of: len(list)}
	}
	return err
}

func askOne(a *run.App, ctx context.Context, p *estate.Estate, q asked) *answered {
	out := &answered{Line: q.line, Question: q.Text}
	var said, failed bytes.Buffer
	in := &run.App{Commands: a.Commands, In: strings.NewReader(""), Out: &said, Err: &failed, Actor: a.Actor, Inner: p, EstatePath: a.EstatePath}
	words, err := run.SplitWords(q.Text)
	if err == nil && len(words) > 0 && words[0] == "tarnwold" {
		words = words[1:]
	}
	if err == nil {
		in.Shown = words
		root := in.Root()
		c, _, ferr := root.Find(words)
		if err = ferr; err == nil && !isQuestion(c) {
			err = run.Misused("%q is not a question; see: tarnwold --help", doc.Clip(q.Text))
		}
		for _, w := range words {
			if err == nil && (strings.HasPrefix(w, "-o") || w == "--out" || strings.HasPrefix(w, "--out=")) {
				err = run.Misused("the answers to a file of questions are JSON lines; leave %s out", doc.Clip(w))
			}
		}
	}
	if err != nil {
		in.Format = doc.JSON
		out.Exit = run.CodeOf(err)
		in.SayError(err, out.Exit)
	} else {
		out.Exit = in.Run(ctx, append(words, "--format", "json"))
	}
	if b := bytes.TrimSpace(said.Bytes()); json.Valid(b) {
		var one bytes.Buffer
		_ = json.Compact(&one, b)
		out.Answer = one.Bytes()
	}
	if b := bytes.TrimSpace(failed.Bytes()); len(b) > 0 && out.Exit > run.ExitNo {
		if !json.Valid(b) {
			b, _ = json.Marshal(string(b))
		}
		var one bytes.Buffer
		_ = json.Compact(&one, b)
		out.Error = one.Bytes()
	}
	return out
}

// isQuestion tells whether a command only asks.
func isQuestion(c *cobra.Command) bool { return c.Annotations["asks"] == "yes" }
