// Package place holds addresses: where an item is, as a person writes it, and
// patterns that mean many. Which items there are never lives here.
//
// An address is //server/share/folder/file through a share, or
// server:/folder/file at the server itself. Backslashes are taken as slashes
// where the address begins with them, as in \\server\share; elsewhere a
// backslash before a special sign (* ? [ ] { } \) makes that sign an ordinary
// one, and any other backslash is a slash.
package place

import (
	"fmt"
	"strings"
)

// Address is one place.
type Address struct {
	Server string
	Share  string // empty: the server's own path
	Path   string // below the share, or the server's own beginning with /
}

// Error is text that is not an address.
type Error struct {
	Text string `json:"text"`
	Why  string `json:"why"`
}

func (e *Error) Error() string {
	text := e.Text
	if len(text) > 200 {
		text = text[:200] + "…"
	}
	return fmt.Sprintf("%q is not an address: %s; write //server/share/folder or server:/folder", text, e.Why)
}

// special are the signs that mean something in a pattern.
const special = `*?[]{}\`

// Pattern is an address whose last parts may hold special signs: the base
// they begin at and, part by part, what is below it. A part ** stands for any
// folders.
type Pattern struct {
	Base  Address
	Parts []string // with the backslashes that make signs ordinary; empty: the base itself is meant
}

// Parse reads an address; special signs in it are ordinary ones.
func Parse(text string) (Address, error) {
	p, err := split(text, false)
	if err != nil {
		return Address{}, err
	}
	return p.whole(), nil
}

// ParsePlain reads an address as it stands: a backslash behind the server is
// a letter like any other.
func ParsePlain(text string) (Address, error) {
	p, err := split(text, true)
	if err != nil {
		return Address{}, err
	}
	return p.whole(), nil
}

// ParsePattern reads an address that may hold special signs.
func ParsePattern(text string) (Pattern, error) {
	p, err := split(text, false)
	if err != nil {
		return Pattern{}, err
	}
	n := 0
	for n < len(p.parts) && !p.parts[n].wild {
		n++
	}
	out := Pattern{Base: Address{Server: p.server, Share: p.share, Path: p.path(n)}}
	for _, x := range p.parts[n:] {
		out.Parts = append(out.Parts, x.raw)
	}
	return out, nil
}

type part struct {
	name string // with every sign an ordinary one
	raw  string // as a pattern: ordinary signs have a backslash
	wild bool
}

type parts struct {
	server, share string
	parts         []part
}

func (p *parts) path(n int) string {
	names := make([]string, n)
	for i := range names {
		names[i] = p.parts[i].name
	}
	path := strings.Join(names, "/")
	if p.share == "" {
		return "/" + path
	}
	return path
}

func (p *parts) whole() Address {
	return Address{Server: p.server, Share: p.share, Path: p.path(len(p.parts))}
}

func split(text string, plain bool) (*parts, error) {
	bad := func(why string) error { return &Error{text, why} }
	rest := text
	slashed := strings.HasPrefix(text, `\\`)
	if slashed && !plain {
		rest = strings.ReplaceAll(text, `\`, "/")
	} else if slashed {
		rest = "//" + text[2:]
	}
	var p parts
	if through, ok := strings.CutPrefix(rest, "//"); ok {
		head := strings.SplitN(through, "/", 3)
		if len(head) < 2 || head[0] == "" || head[1] == "" {
			return nil, bad("it names no share")
		}
		p.server, p.share, rest = head[0], head[1], ""
		if len(head) == 3 {
			rest = head[2]
		}
	} else {
		server, path, ok := strings.Cut(rest, ":")
		if !ok || server == "" || strings.ContainsAny(server, `/\`) {
			return nil, bad("it names no server")
		}
		if strings.HasPrefix(path, `\`) && !plain {
			slashed = true
			path = strings.ReplaceAll(path, `\`, "/")
		}
		if !strings.HasPrefix(path, "/") {
			return nil, bad("the path behind the server begins with /")
		}
		p.server, rest = server, path
	}
	if strings.ContainsRune(rest, 0) {
		return nil, bad("a name holds a zero byte")
	}
	var name, raw strings.Builder
	wild := false
	end := func() error {
		n, r, w := name.String(), raw.String(), wild
		name.Reset()
		raw.Reset()
		wild = false
		switch r {
		case "", ".":
			return nil
		case "..":
			return bad("it steps up by ..")
		}
		p.parts = append(p.parts, part{n, r, w})
		return nil
	}
	for i := 0; i < len(rest); i++ {
		c := rest[i]
		switch {
		case c == '/' || c == '\\' && !plain && !slashed && (i+1 == len(rest) || !strings.ContainsRune(special, rune(rest[i+1]))):
			if err := end(); err != nil {
				return nil, err
			}
		case c == '\\' && !plain && !slashed:
			i++
			name.WriteByte(rest[i])
			raw.WriteByte('\\')
			raw.WriteByte(rest[i])
		case strings.IndexByte(special, c) >= 0 && plain:
			name.WriteByte(c)
			raw.WriteByte('\\')
			raw.WriteByte(c)
		default:
			wild = wild || c == '*' || c == '?' || c == '[' || c == '{'
			name.WriteByte(c)
			raw.WriteByte(c)
		}
	}
	return &p, end()
}

// String writes the address with forward slashes, so that Parse reads it.
func (a Address) String() string { return a.write(`\`) }

// Escaped writes the address so that ParsePattern means this place alone.
func (a Address) Escaped() string { return a.write(special) }

func (a Address) write(signs string) string {
	path := a.Path
	if strings.ContainsAny(path, signs) {
		var b strings.Builder
		for i := 0; i < len(path); i++ {
			if strings.IndexByte(signs, path[i]) >= 0 {
				b.WriteByte('\\')
			}
			b.WriteByte(path[i])
		}
		path = b.String()
	}
	if a.Share == "" {
		return a.Server + ":" + path
	}
	s := "//" + a.Server + "/" + a.Share
	if path != "" {
		s += "/" + path
	}
	return s
}

// Whole tells whether a text is an address, and no name of something else or
// place relative to another.
func Whole(text string) bool {
	text = strings.ReplaceAll(text, `\`, "/")
	colon := strings.Index(text, ":/")
	return strings.HasPrefix(text, "//") || colon > 0 && !strings.Contains(text[:colon], "/")
}

// Cut tells whether a server's own path is at or below top, and gives the rest.
func Cut(path, top string) (rest string, ok bool) {
	if top == "/" {
		return strings.TrimPrefix(path, "/"), true
	}
	if path == top {
		return "", true
	}
	return strings.CutPrefix(path, top+"/")
}

// Under tells whether a server's own path is at or below another.
func Under(path, top string) bool { _, ok := Cut(path, top); return ok }

// Join puts a server's own path together.
func Join(top, rest string) string {
	switch {
	case rest == "":
		return top
	case top == "/":
		return "/" + rest
	}
	return top + "/" + rest
}

// Clean brings a server's own path to its one form: parts joined by single
// slashes, beginning with one, none behind.
func Clean(path string) (string, error) {
	a, err := ParsePlain("x:" + path)
	if err != nil {
		return "", &Error{path, err.(*Error).Why}
	}
	return a.Path, nil
}

// Dir gives the folder a path is in: "/" for what is right below the top.
func Dir(path string) string {
	if i := strings.LastIndexByte(path, '/'); i > 0 {
		return path[:i]
	}
	return "/"
}

// Name is the last part of a path.
func Name(path string) string { return path[strings.LastIndexByte(path, '/')+1:] }
