package estate

import (
	"fmt"
	"strings"
)

// Address is a place as it is written: //server/share/folder/file through a
// share, server:/folder/file at the server itself. Backslashes are taken too.
type Address struct {
	Server string
	Share  string // empty: the server's own path
	Path   string // below the share, or the server's own beginning with /
}

// ParseAddress reads an address.
func ParseAddress(s string) (Address, error) {
	text := strings.ReplaceAll(s, `\`, "/")
	bad := func(why string) error {
		return fmt.Errorf("%q is no place: %s; write //server/share/folder or server:/folder", s, why)
	}
	var a Address
	var rest string
	if through, ok := strings.CutPrefix(text, "//"); ok {
		parts := strings.SplitN(through, "/", 3)
		if len(parts) < 2 || parts[0] == "" || parts[1] == "" {
			return a, bad("it names no share")
		}
		a.Server, a.Share = parts[0], parts[1]
		if len(parts) == 3 {
			rest = parts[2]
		}
	} else {
		server, path, ok := strings.Cut(text, ":")
		if !ok || server == "" || strings.Contains(server, "/") {
			return a, bad("it names no server")
		}
		if !strings.HasPrefix(path, "/") {
			return a, bad("the path behind the server begins with /")
		}
		a.Server, rest = server, path
	}
	var clean []string
	for _, p := range strings.Split(rest, "/") {
		switch p {
		case "", ".":
		case "..":
			return a, bad("it steps up by ..")
		default:
			clean = append(clean, p)
		}
	}
	a.Path = strings.Join(clean, "/")
	if a.Share == "" {
		a.Path = "/" + a.Path
	}
	return a, nil
}

// String writes the address with forward slashes.
func (a Address) String() string {
	if a.Share == "" {
		return a.Server + ":" + a.Path
	}
	s := "//" + a.Server + "/" + a.Share
	if a.Path != "" {
		s += "/" + a.Path
	}
	return s
}

// under tells whether path is at or below top, and gives the rest.
func under(path, top string) (rest string, ok bool) {
	if top == "/" {
		return strings.TrimPrefix(path, "/"), true
	}
	if path == top {
		return "", true
	}
	return strings.CutPrefix(path, top+"/")
}

// join puts a server's own path together.
func join(top, rest string) string {
	switch {
	case rest == "":
		return top
	case top == "/":
		return "/" + rest
	}
	return top + "/" + rest
}

// Under tells whether a server's own path is at or below another.
func Under(path, top string) bool { _, ok := under(path, top); return ok }
