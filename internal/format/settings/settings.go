// Package settings reads the program's settings: a YAML file of what would otherwise be said on
// each command line.
package settings

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"

	"github.com/goccy/go-yaml"
	"github.com/goccy/go-yaml/ast"
	"github.com/goccy/go-yaml/parser"

	"tarnwold/internal/format"
)

// Setting is one setting, and where it stands.
type Setting struct {
	// Key says what is set: a key of its own, "passwords" and whose, or "commands", a command and
	// its flag.
	Key    []string
	Values []string // one, but for a flag that may be given again
	File   string
	Line   int
	Column int
}

// Name is the key as one writes it.
func (s *Setting) Name() string { return strings.Join(s.Key, ".") }

// Keys are the settings that stand by themselves, and what each is.
var Keys = [...][2]string{
	{"estate", "the estate file, where neither --estate nor TARNWOLD_ESTATE names one"},
	{"as", "the account that acts, where --as names none"},
	{"format", "how to answer, where --format doesn't say: table, json, csv or markdown"},
	{"color", "whether answers at a terminal are in colour: yes or no"},
	{"pager", "whether long answers at a terminal are shown page by page: yes or no"},
}

// most is how many bytes a file of settings has at most, and deepest how many brackets stand
// in each other: settings need two, and the library takes ever longer for more.
const (
	most    = 1 << 16
	deepest = 8
)

// Read reads a file of settings.
func Read(r io.Reader, file string) ([]Setting, error) {
	text, err := io.ReadAll(io.LimitReader(r, most+1))
	if err != nil {
		return nil, err
	}
	if len(text) > most {
		return nil, &format.Error{File: file, What: fmt.Sprintf("it is longer than %d bytes", most)}
	}
	deep := 0
	for i, b := range text {
		switch b {
		case '[', '{':
			deep++
		case ']', '}':
			deep = max(deep-1, 0)
		}
		if deep > deepest {
			return nil, &format.Error{File: file, Line: 1 + bytes.Count(text[:i], []byte{'\n'}), What: fmt.Sprintf("more than %d brackets are open", deepest)}
		}
	}
	f, err := parser.ParseBytes(text, 0)
	var bad yaml.Error
	if errors.As(err, &bad) {
		e := &format.Error{File: file, What: bad.GetMessage()}
		if t := bad.GetToken(); t != nil && t.Position != nil {
			e.Line, e.Column = t.Position.Line, t.Position.Column
		}
		return nil, e
	}
	if err != nil {
		return nil, &format.Error{File: file, What: err.Error()}
	}
	x := &reader{file: file}
	if len(f.Docs) > 1 {
		return nil, x.at(f.Docs[1].Body, "there is more than one document")
	}
	for _, d := range f.Docs {
		if d.Body == nil || d.Body.Type() == ast.NullType {
			continue
		}
		if err := x.under(d.Body, nil); err != nil {
			return nil, err
		}
	}
	return x.out, nil
}

type reader struct {
	file string
	out  []Setting
}

func (x *reader) at(n ast.Node, what string, args ...any) error {
	e := &format.Error{File: x.file, What: fmt.Sprintf(what, args...)}
	if n != nil && n.GetToken() != nil && n.GetToken().Position != nil {
		e.Line, e.Column = n.GetToken().Position.Line, n.GetToken().Position.Column
	}
	return e
}

// pairs gives the keys and values of a mapping.
func (x *reader) pairs(n ast.Node) ([]*ast.MappingValueNode, error) {
	switch n := n.(type) {
	case *ast.MappingNode:
		return n.Values, nil
	case *ast.MappingValueNode:
		return []*ast.MappingValueNode{n}, nil
	}
	return nil, x.at(n, "wanted keys and values here")
}

// under reads what stands under some keys.
func (x *reader) under(n ast.Node, key []string) error {
	list, err := x.pairs(n)
	if err != nil {
		return err
	}
	seen := map[string]bool{}
	for _, p := range list {
		name, ok := scalar(p.Key)
		if !ok {
			return x.at(p.Key, "wanted a name here")
		}
		if seen[name] {
			return x.at(p.Key, "%q appears twice here", format.Clip(name))
		}
		seen[name] = true
		if err := x.one(p, append(slices.Clone(key), name)); err != nil {
			return err
		}
	}
	return nil
}

func (x *reader) one(p *ast.MappingValueNode, key []string) error {
	top := key[0]
	known := slices.ContainsFunc(Keys[:], func(k [2]string) bool { return k[0] == top })
	switch {
	case len(key) == 1 && !known && top != "passwords" && top != "commands":
		var names []string
		for _, k := range Keys {
			names = append(names, k[0])
		}
		return x.at(p.Key, "%q is not a setting: there are %s, passwords and commands", format.Clip(top), strings.Join(names, ", "))
	case p.Value == nil || p.Value.Type() == ast.NullType:
		if len(key) < depth(top) { // nothing stands under it
			return nil
		}
		return x.at(p.Key, "%s has no value", format.Clip(strings.Join(key, ".")))
	case len(key) < depth(top):
		return x.under(p.Value, key)
	}
	s := Setting{Key: key, File: x.file}
	if t := p.Key.GetToken(); t != nil && t.Position != nil {
		s.Line, s.Column = t.Position.Line, t.Position.Column
	}
	if list, ok := p.Value.(*ast.SequenceNode); ok && top == "commands" {
		for _, v := range list.Values {
			text, ok := scalar(v)
			if !ok {
				return x.at(v, "wanted a value here")
			}
			s.Values = append(s.Values, text)
		}
	} else {
		text, ok := scalar(p.Value)
		if !ok {
			return x.at(p.Value, "wanted one value for %s", format.Clip(strings.Join(key, ".")))
		}
		s.Values = []string{text}
	}
	for _, v := range s.Values {
		if strings.ContainsRune(v, 0) {
			return x.at(p.Value, "there is a NUL in it")
		}
	}
	if top == "color" || top == "pager" {
		if _, ok := YesNo(s.Values[0]); !ok {
			return x.at(p.Value, "wanted yes or no for %s", top)
		}
	}
	x.out = append(x.out, s)
	return nil
}

// YesNo reads yes or no, as YAML writes them.
func YesNo(text string) (yes, ok bool) {
	switch strings.ToLower(text) {
	case "yes", "true", "on":
		return true, true
	case "no", "false", "off":
		return false, true
	}
	return false, false
}

// depth is how many names a key has.
func depth(top string) int {
	switch top {
	case "passwords":
		return 2
	case "commands":
		return 3
	}
	return 1
}

// scalar gives the text of a plain value.
func scalar(n ast.Node) (string, bool) {
	switch n := n.(type) {
	case *ast.StringNode:
		return n.Value, true
	case *ast.LiteralNode:
		return n.Value.Value, true
	case *ast.IntegerNode, *ast.FloatNode, *ast.BoolNode:
		return n.GetToken().Value, true
	}
	return "", false
}
