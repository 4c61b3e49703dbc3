// Package exports reads a table of exported folders as exports(5) has it: a
// path, then the machines that may mount it, each with options in parentheses.
package exports

import (
	"bufio"
	"fmt"
	"io"
	"path"
	"slices"
	"strconv"
	"strings"
	"unicode/utf8"

	"tarnwold/internal/format"
)

// Export is a folder exported in one way, to one or more machines.
type Export struct {
	Path     string
	Line     int
	Hosts    []string // *: any
	ReadOnly bool
	Squash   string // root (uid 0 is nobody), all (everybody is), none
	UID, GID uint32 // nobody's
}

// nobody is the uid and gid of whoever is squashed, where nothing else is said.
const nobody = 65534

// longest is the most bytes a line may have, mostHosts how many machines it may name.
const (
	longest   = 64 << 10
	mostHosts = 4096
)

// Name gives a share's name for an exported folder: its path, parts joined by -.
func (e *Export) Name() string {
	if n := strings.ReplaceAll(strings.Trim(e.Path, "/"), "/", "-"); n != "" {
		return n
	}
	return "root"
}

// Read reads a table. Machines with the same options are one export.
func Read(r io.Reader, file string) (out []Export, err error) {
	s := bufio.NewScanner(r)
	s.Buffer(make([]byte, 0, 4096), longest)
	line, text := 0, ""
	for n := 1; s.Scan(); n++ {
		if text == "" {
			line = n
		}
		part := s.Text()
		if !utf8.ValidString(part) {
			return nil, &format.Error{File: file, Line: n, What: "the text is not UTF-8"}
		}
		if more, ok := strings.CutSuffix(part, `\`); ok {
			if text += more + " "; len(text) > longest {
				return nil, &format.Error{File: file, Line: line, What: "the line is too long"}
			}
			continue
		}
		got, err := one(text + part)
		if err != nil {
			return nil, &format.Error{File: file, Line: line, What: err.Error()}
		}
		for _, e := range got {
			e.Line = line
			out = append(out, e)
		}
		text = ""
	}
	if err := s.Err(); err != nil {
		return nil, &format.Error{File: file, Line: line, What: err.Error()}
	}
	if strings.TrimSpace(text) != "" {
		return nil, &format.Error{File: file, Line: line, What: `it ends within a line that goes on (\)`}
	}
	return out, nil
}

// one reads a line.
func one(text string) ([]Export, error) {
	words, err := words(text)
	if err != nil || len(words) == 0 {
		return nil, err
	}
	at := words[0]
	if !path.IsAbs(at) {
		return nil, fmt.Errorf("%q is not a whole path", format.Clip(at))
	}
	plain := Export{Path: path.Clean(at), ReadOnly: true, Squash: "root", UID: nobody, GID: nobody}
	if len(words) > mostHosts {
		return nil, fmt.Errorf("it names more than %d machines", mostHosts)
	}
	if len(words) == 1 {
		words = append(words, "*")
	}
	var out []Export
	for _, w := range words[1:] {
		if opts, ok := strings.CutPrefix(w, "-"); ok { // for those that follow
			if plain, err = plain.with(opts); err != nil {
				return nil, err
			}
			continue
		}
		host, opts, has := strings.Cut(w, "(")
		e := plain
		if has {
			opts, ok := strings.CutSuffix(opts, ")")
			if !ok {
				return nil, fmt.Errorf("%q: the parenthesis isn't closed", format.Clip(w))
			}
			if e, err = plain.with(opts); err != nil {
				return nil, err
			}
		}
		if host == "" {
			host = "*"
		}
		i := slices.IndexFunc(out, func(o Export) bool {
			return o.ReadOnly == e.ReadOnly && o.Squash == e.Squash && o.UID == e.UID && o.GID == e.GID
		})
		if i >= 0 {
			out[i].Hosts = append(out[i].Hosts, host)
			continue
		}
		e.Hosts = []string{host}
		out = append(out, e)
	}
	return out, nil
}

// with gives an export with options; those that change nobody's access by
// themselves are passed over.
func (e Export) with(opts string) (Export, error) {
	for _, o := range strings.Split(opts, ",") {
		key, value, _ := strings.Cut(strings.TrimSpace(o), "=")
		switch key {
		case "ro":
			e.ReadOnly = true
		case "rw":
			e.ReadOnly = false
		case "root_squash":
			if e.Squash == "none" {
				e.Squash = "root"
			}
		case "no_root_squash":
			if e.Squash == "root" {
				e.Squash = "none"
			}
		case "all_squash":
			e.Squash = "all"
		case "no_all_squash":
			if e.Squash == "all" {
				e.Squash = "root"
			}
		case "anonuid", "anongid":
			n, err := strconv.ParseInt(value, 10, 64)
			if err != nil || n < -1<<31 || n > 1<<32-1 {
				return e, fmt.Errorf("%s=%s is not a number of an account", key, format.Clip(value))
			}
			if key == "anonuid" {
				e.UID = uint32(n)
			} else {
				e.GID = uint32(n)
			}
		}
	}
	return e, nil
}

// words parts a line at blanks: quotes hold them together, a backslash and
// three octal digits are a byte, and # begins a comment.
func words(text string) (out []string, err error) {
	var b []byte
	quoted, any := false, false
	for i := 0; i < len(text); i++ {
		c := text[i]
		switch {
		case c == '"':
			quoted, any = !quoted, true
		case c == '#' && !quoted && !any:
			return out, nil
		case (c == ' ' || c == '\t' || c == '\r') && !quoted:
			if any {
				out = append(out, string(b))
			}
			b, any = b[:0], false
		case c == '\\' && i+3 < len(text):
			n, err := strconv.ParseUint(text[i+1:i+4], 8, 8)
			if err != nil || n == 0 {
				return nil, fmt.Errorf(`%q: a backslash takes three octal digits`, format.Clip(text[i:]))
			}
			b, any = append(b, byte(n)), true
			i += 3
		default:
			b, any = append(b, c), true
		}
	}
	if quoted {
		return nil, fmt.Errorf("a quote isn't closed")
	}
	if any {
		out = append(out, string(b))
	}
	return out, nil
}
