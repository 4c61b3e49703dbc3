package cli

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

	"tarnwold/internal/estate"
	"tarnwold/internal/format"
	"tarnwold/internal/report"
	"tarnwold/internal/store"
)

func (a *app) questionsCommand() *cobra.Command {
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
			list, err := readFile(c.Context(), args[0], readQuestions)
			if err != nil {
				return err
			}
			return a.questions(c.Context(), list)
		},
	}
}

// asked is one question of a file.
type asked struct {
	line int
	text string
}

// mostQuestions is how many questions a file may hold, and how long one may be.
const (
	mostQuestions = 1_000_000
	longestLine   = 1 << 16
)

func readQuestions(r io.Reader, file string) (out []asked, err error) {
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
func (a *app) questions(ctx context.Context, list []asked) error {
	e, done, err := a.open(ctx)
	if err != nil {
		return err
	}
	defer done()
	bar := a.progress(len(list), "answering")
	defer bar.end()
	bad := 0
	w := &report.Printer{W: a.out, Format: report.JSON, Screen: isTerminal(a.out)}
	err = e.Private(ctx, func(p *estate.Estate) error {
		for i, q := range list {
			if ctx.Err() != nil {
				return store.ErrStopped
			}
			x := a.askOne(ctx, p, q)
			if x.Exit > exitNo {
				bad++
			}
			if err := w.JSONLine(x); err != nil {
				return err
			}
			bar.set(i + 1)
		}
		return nil
	})
	if err == nil && bad > 0 {
		err = &unanswered{Rows: bad, Of: len(list)}
	}
	return err
}

func (a *app) askOne(ctx context.Context, p *estate.Estate, q asked) *answered {
	out := &answered{Line: q.line, Question: q.text}
	var said, failed bytes.Buffer
	in := &app{commands: a.commands, in: strings.NewReader(""), out: &said, err: &failed, actor: a.actor, inner: p, estatePath: a.estatePath}
	words, err := splitWords(q.text)
	if err == nil && len(words) > 0 && words[0] == "tarnwold" {
		words = words[1:]
	}
	if err == nil {
		in.shown = words
		root := in.root()
		c, _, ferr := root.Find(words)
		if err = ferr; err == nil && !isQuestion(c) {
			err = misused("%q is no question; see: tarnwold --help", report.Clip(q.text))
		}
		for _, w := range words {
			if err == nil && (strings.HasPrefix(w, "-o") || w == "--out" || strings.HasPrefix(w, "--out=")) {
				err = misused("the answers to a file of questions are JSON lines; leave %s out", report.Clip(w))
			}
		}
	}
	if err != nil {
		in.format = report.JSON
		out.Exit = codeOf(err)
		in.sayError(err, out.Exit)
	} else {
		out.Exit = in.run(ctx, append(words, "--format", "json"))
	}
	if b := bytes.TrimSpace(said.Bytes()); json.Valid(b) {
		var one bytes.Buffer
		_ = json.Compact(&one, b)
		out.Answer = one.Bytes()
	}
	if b := bytes.TrimSpace(failed.Bytes()); len(b) > 0 && out.Exit > exitNo {
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
