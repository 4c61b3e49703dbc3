package cli

import (
	"bytes"
	"crypto/sha256"
	"encoding/base64"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"io"

	"github.com/spf13/cobra"

	"tarnwold/core/change"
	"tarnwold/core/rule"
	"tarnwold/internal/estate"
	"tarnwold/internal/format"
	"tarnwold/internal/format/secdesc"
)

// savedChange is a change set in a file; docs/formats.md describes it.
type savedChange struct {
	Tarnwold string      `json:"tarnwold"` // "change-set 1"
	Summary  string      `json:"summary"`
	Command  string      `json:"command"`
	Actor    string      `json:"actor"`
	Saw      string      `json:"saw"` // digest of all the change rests on
	Renew    bool        `json:"renew,omitempty"`
	Items    []savedEdit `json:"items"`
	Shares   []savedEdit `json:"shares"`
}

// savedEdit is one descriptor before and after, self-relative in base64.
type savedEdit struct {
	Where  string `json:"where"`
	Before string `json:"before"`
	After  string `json:"after"`
}

const changeSetMark = "change-set 1"

func encoded(d *rule.Descriptor) (string, error) {
	b, err := secdesc.Encode(d)
	return base64.StdEncoding.EncodeToString(b), err
}

func decoded(s string) (*rule.Descriptor, error) {
	b, err := base64.StdEncoding.DecodeString(s)
	if err != nil {
		return nil, err
	}
	return secdesc.Decode(b)
}

// digest sums up what a proposal rests on: every descriptor at and below the
// places it names, how many items have each, the shares, and the people.
func digest(t *estate.Tx, p *proposal) (string, error) {
	h := sha256.New()
	for i := range p.forest.Nodes {
		n := &p.forest.Nodes[i]
		b, err := secdesc.Encode(n.Before)
		if err != nil {
			return "", err
		}
		fmt.Fprintf(h, "%d %d %v %x\n", n.Parent, n.Items, n.Folder, b)
	}
	for _, s := range p.shares {
		b, err := secdesc.Encode(s.before)
		if err != nil {
			return "", err
		}
		fmt.Fprintf(h, "%s %x\n", s.share.Name, b)
	}
	d := t.Directory()
	for _, id := range d.All() {
		a, _ := d.Account(id)
		fmt.Fprintf(h, "%s %s %v\n", a.Name, a.Primary, d.GroupsOf(id))
	}
	return hex.EncodeToString(h.Sum(nil)), t.Err()
}

// save writes a proposal to a file instead of keeping it.
func (a *app) save(t *estate.Tx, p *proposal, file string) error {
	if p.also != nil {
		return misused("a change with a last day, or of memberships, can't be saved for later")
	}
	s := savedChange{Tarnwold: changeSetMark, Summary: p.summary, Command: command(a.shown), Actor: a.who(), Renew: p.forest.Renew, Items: []savedEdit{}, Shares: []savedEdit{}}
	var err error
	if s.Saw, err = digest(t, p); err != nil {
		return err
	}
	add := func(to *[]savedEdit, where string, before, after *rule.Descriptor) error {
		b, err := encoded(before)
		if err != nil {
			return err
		}
		x, err := encoded(after)
		*to = append(*to, savedEdit{where, b, x})
		return err
	}
	for i := range p.forest.Nodes {
		n := &p.forest.Nodes[i]
		if p.forest.Edits[i] == nil || !n.Changed() {
			continue
		}
		for _, item := range t.Items(p.forest.Strands[i], int(n.Items)) {
			if err := add(&s.Items, t.Place(item).String(), n.Before, n.After); err != nil {
				return err
			}
		}
	}
	for _, e := range p.shares {
		if err := add(&s.Shares, e.share.Address(e.server), e.before, e.after); err != nil {
			return err
		}
	}
	js, err := json.MarshalIndent(s, "", "  ")
	if err != nil {
		return err
	}
	if err := writeNew(file, append(js, '\n')); err != nil {
		return err
	}
	a.say("Saved to %s; keep it with: tarnwold apply %s", file, file)
	return nil
}

func (a *app) applyCommand() *cobra.Command {
	var k keeping
	c := &cobra.Command{
		Use:   "apply FILE",
		Short: "Keep a change set that was saved",
		Long: `Keep a change set that --save wrote. It is shown with its impact as it would be
now, and refused if what it saw has changed since: rules at or below its places,
its shares, or who is in which group.`,
		Example: `  tarnwold grant stage read //stagedoor/productions/Archive --save later.json
  tarnwold apply later.json`,
		Args: cobra.ExactArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			s, err := readFile(args[0], readChange)
			if err != nil {
				return err
			}
			return a.propose(c.Context(), k, func(t *estate.Tx) (*proposal, error) {
				p, err := s.proposal(t)
				if err != nil {
					return nil, fmt.Errorf("%s: %w", args[0], err)
				}
				return p, nil
			})
		},
	}
	k.plainFlags(c)
	return c
}

func readChange(r io.Reader, file string) (*savedChange, error) {
	text, err := io.ReadAll(r)
	if err != nil {
		return nil, err
	}
	s := &savedChange{}
	d := json.NewDecoder(bytes.NewReader(text))
	d.DisallowUnknownFields()
	if err := d.Decode(s); err != nil {
		at := int(d.InputOffset())
		return nil, &format.Error{File: file, Line: 1 + bytes.Count(text[:at], []byte("\n")), What: fmt.Sprintf("this is no saved change set: %v", err)}
	}
	if s.Tarnwold != changeSetMark {
		return nil, &format.Error{File: file, Line: 1, What: fmt.Sprintf("%q is no kind of file this program knows, wanted %q", s.Tarnwold, changeSetMark)}
	}
	return s, nil
}

func (s *savedChange) proposal(t *estate.Tx) (*proposal, error) {
	moved := func(where string) error {
		return &estate.Refused{Why: fmt.Sprintf("%s has changed since the change set was saved", where), Do: "work it out anew"}
	}
	after := map[int64]*rule.Descriptor{}
	var places []estate.Place
	for _, e := range s.Items {
		p, err := t.Find(e.Where)
		if err != nil {
			return nil, err
		}
		before, err := decoded(e.Before)
		if err != nil {
			return nil, fmt.Errorf("%s, before: %w", e.Where, err)
		}
		if !before.Equal(t.Of(p.Strand)) {
			return nil, moved(e.Where)
		}
		if after[p.Item], err = decoded(e.After); err != nil {
			return nil, fmt.Errorf("%s, after: %w", e.Where, err)
		}
		places = append(places, p)
	}
	var p *proposal
	var err error
	if len(s.Shares) > 0 {
		turned := map[string]*rule.Descriptor{}
		var where []string
		for _, e := range s.Shares {
			if turned[e.Before], err = decoded(e.After); err != nil {
				return nil, fmt.Errorf("%s, after: %w", e.Where, err)
			}
			where = append(where, e.Where)
		}
		p, err = onShares(t, where, func(d *rule.Descriptor) (*rule.Descriptor, error) {
			now, err := encoded(d)
			if err != nil {
				return nil, err
			}
			if turned[now] == nil {
				return nil, moved("a share")
			}
			return turned[now], nil
		})
	} else {
		if p, err = over(t, places); err == nil {
			p.forest.Renew, p.renews = s.Renew, s.Renew
			for i, place := range p.places {
				p.forest.Edits[p.nodes[i]] = change.Edit(func(*rule.Descriptor, *rule.Descriptor, bool) (*rule.Descriptor, error) {
					return after[place.Item], nil
				})
			}
			err = p.forest.Work()
		}
	}
	if err != nil {
		return nil, err
	}
	saw, err := digest(t, p)
	if err != nil {
		return nil, err
	}
	if saw != s.Saw {
		return nil, moved("what it rests on (rules below its places, or who is in which group)")
	}
	p.summary, p.nothing = s.Summary, "it is so already"
	return p, nil
}
