// Package smbconf reads what an SMB server's own configuration file says of its
// shares beside their rules: sections in brackets, lines of "name = value",
// comments that begin with # or ;, a line that ends in \ going on in the next.
// Blanks and case in names of parameters don't count. What [global] says holds
// for every share that doesn't say otherwise.
package smbconf

import (
	"bufio"
	"cmp"
	"fmt"
	"io"
	"maps"
	"slices"
	"strings"

	"tarnwold/internal/format"
)

// Share is what the file says of one share. A group's name begins with @.
type Share struct {
	Name           string
	Line           int
	Path           string
	ReadOnly       bool
	Limited        bool // only those in Only may connect
	Only, Never    []string
	Reading        []string
	Writing        []string
	Administrators []string
	Passes         bool   // the file says who they are, be it nobody
	As             string // the user files are opened as
	Group          string // the group they are opened with
	GroupOfMembers bool   // for its members alone
	Hides          bool   // what can't be read isn't shown
	NoMachine      bool   // from no machine one may connect
	Runs           bool   // running a file isn't asked for execute
	// Uncounted is what the file says of the share that changes an answer and isn't
	// counted in any: each parameter with its value.
	Uncounted []string
}

// Note is what the file says and no answer counts.
type Note struct {
	Line int    `json:"line"`
	What string `json:"what"`
}

// longest is the most bytes a line may have.
const longest = 64 << 10

type section struct {
	name   string
	line   int
	values map[string]value
}

type value struct {
	key  string // as it is written
	text string
	line int
}

// said is a line of the file again.
func (v value) said() string { return v.key + " = " + v.text }

// alias gives each parameter one name; those that say the opposite begin with !.
var alias = map[string]string{
	"path": "path", "directory": "path",
	"readonly": "readonly", "writeable": "!readonly", "writable": "!readonly", "writeok": "!readonly",
	"validusers": "validusers", "invalidusers": "invalidusers", "readlist": "readlist", "writelist": "writelist", "adminusers": "adminusers",
	"forceuser": "forceuser", "forcegroup": "forcegroup", "group": "forcegroup", "hideunreadable": "hideunreadable",
	"available": "available", "include": "include", "copy": "copy", "configfile": "configfile", "hostsallow": "hostsallow", "allowhosts": "hostsallow",
	"hostsdeny": "hostsdeny", "denyhosts": "hostsdeny", "guestok": "guestok", "public": "guestok", "guestonly": "guestonly", "onlyguest": "guestonly",
	"usernamemap": "usernamemap", "vetofiles": "vetofiles", "vfsobjects": "vfsobjects", "vfsobject": "vfsobjects",
	"aclallowexecutealways": "executealways", "acl_xattr:defaultaclstyle": "defaultaclstyle", "acl_xattr:ignoresystemacls": "ignoresystemacls",
	"rootpreexecclose": "preexecclose", "preexecclose": "preexecclose", "readonly:period": "readonlyperiod",
	"inheritowner": "inheritowner", "deletereadonly": "deletereadonly", "netbiosname": "netbiosname",
}

// unsure are parameters of a share that change what somebody can do there and no answer
// counts: under which values they do.
var unsure = map[string]func(text string) bool{
	"hostsallow": func(t string) bool { return t != "" }, "hostsdeny": func(t string) bool { return t != "" },
	"copy": func(t string) bool { return t != "" }, "include": func(t string) bool { return t != "" }, "configfile": func(t string) bool { return t != "" },
	"usernamemap": func(t string) bool { return t != "" }, "vetofiles": func(t string) bool { return strings.Trim(t, "/ ") != "" },
	"guestonly": yes, "preexecclose": yes, "inheritowner": func(t string) bool { on, err := boolean(t); return t != "" && (err != nil || on) },
	"defaultaclstyle": func(t string) bool { return t != "" && !strings.EqualFold(t, "posix") },
	"deletereadonly":  yes,
}

func yes(text string) bool { on, err := boolean(text); return err == nil && on }

// refusesAll says whether no machine may connect.
func refusesAll(allow, deny string) bool {
	return allow == "" && slices.ContainsFunc(names(deny), func(h string) bool { return strings.EqualFold(h, "all") })
}

// harmless are modules of a server that change no answer, as they were measured, beside
// the one that keeps descriptors.
var harmless = []string{"acl_xattr", "recycle", "full_audit", "dfs_samba4", "streams_xattr", "shadow_copy2", "crossrename"}

// uncounted are parameters that change what somebody can do and no answer counts.
var uncounted = map[string]string{
	"include": "what another file says isn't read", "copy": "what is copied from another share isn't taken", "configfile": "what another file says isn't read",
	"hostsallow": "from which machines one may connect isn't counted", "hostsdeny": "from which machines one may connect isn't counted",
	"guestok": "guests are not counted", "guestonly": "guests are not counted", "usernamemap": "who is taken for whom isn't counted", "vetofiles": "names that aren't shown are not counted",
}

// none are sections that are no shares.
var none = []string{"global", "homes", "printers", "print$"}

// Read reads a configuration.
func Read(r io.Reader, file string) (shares []Share, notes []Note, err error) {
	sections, err := sections(r, file)
	if err != nil {
		return nil, nil, err
	}
	var global section
	for _, s := range sections {
		if strings.EqualFold(s.name, "global") {
			global = s
		}
	}
	note := func(line int, what string) {
		if !slices.Contains(notes, Note{line, what}) {
			notes = append(notes, Note{line, what})
		}
	}
	for _, s := range sections {
		for _, key := range keys(s.values) {
			if key == "hostsdeny" && refusesAll(cmp.Or(s.values["hostsallow"].text, global.values["hostsallow"].text), s.values[key].text) {
				continue // which is counted
			}
			if why, ok := uncounted[key]; ok && on(key, s.values[key].text) {
				note(s.values[key].line, why)
			}
		}
		if slices.Contains(none, strings.ToLower(s.name)) {
			if strings.EqualFold(s.name, "homes") {
				note(s.line, "[homes] makes a share for each user, which isn't counted")
			}
			continue
		}
		x, err := share(s, global, file, note)
		if err != nil {
			return nil, nil, err
		}
		if x.Name != "" {
			shares = append(shares, x)
		}
	}
	return shares, notes, nil
}

func on(key, text string) bool {
	if key != "guestok" && key != "guestonly" {
		return text != ""
	}
	yes, err := boolean(text)
	return err == nil && yes
}

func keys(m map[string]value) (out []string) {
	for k := range m {
		out = append(out, k)
	}
	slices.Sort(out)
	return out
}

func sections(r io.Reader, file string) (out []section, err error) {
	in := bufio.NewScanner(r)
	in.Buffer(make([]byte, 4096), longest)
	n, begun, whole := 0, 0, ""
	for in.Scan() {
		n++
		line := strings.TrimSpace(strings.TrimSuffix(in.Text(), "\r"))
		if whole == "" {
			begun = n
		}
		if rest, more := strings.CutSuffix(line, `\`); more && !strings.HasPrefix(line, "#") && !strings.HasPrefix(line, ";") {
			if whole += rest + " "; len(whole) > longest {
				return nil, &format.Error{File: file, Line: begun, What: "the line is too long"}
			}
			continue
		}
		line, whole = strings.TrimSpace(whole+line), ""
		switch {
		case line == "" || line[0] == '#' || line[0] == ';':
		case line[0] == '[':
			name, ok := strings.CutSuffix(line[1:], "]")
			if name = strings.TrimSpace(name); !ok || name == "" {
				return nil, &format.Error{File: file, Line: begun, What: "wanted [NAME] of a share"}
			}
			if i := slices.IndexFunc(out, func(s section) bool { return strings.EqualFold(s.name, name) }); i >= 0 { // it goes on
				out = append(slices.Delete(slices.Clone(out), i, i+1), out[i])
			} else {
				out = append(out, section{name, begun, map[string]value{}})
			}
		default:
			key, text, ok := strings.Cut(line, "=")
			if !ok || strings.TrimSpace(key) == "" {
				return nil, &format.Error{File: file, Line: begun, What: "wanted NAME = VALUE, or [NAME] of a share"}
			}
			if len(out) == 0 {
				out = append(out, section{"global", begun, map[string]value{}})
			}
			name, known := alias[strings.ToLower(strings.Join(strings.Fields(key), ""))]
			if !known {
				continue
			}
			text = strings.TrimSpace(text)
			if rest, not := strings.CutPrefix(name, "!"); not {
				yes, err := boolean(text)
				if err != nil {
					return nil, &format.Error{File: file, Line: begun, What: err.Error()}
				}
				name, text = rest, fmt.Sprint(!yes)
			}
			out[len(out)-1].values[name] = value{strings.Join(strings.Fields(key), " "), text, begun}
		}
	}
	if err := in.Err(); err != nil {
		return nil, &format.Error{File: file, Line: n + 1, What: "the line is too long, or can't be read: " + err.Error()}
	}
	return out, nil
}

func boolean(text string) (bool, error) {
	switch strings.ToLower(text) {
	case "yes", "true", "1", "on":
		return true, nil
	case "no", "false", "0", "off":
		return false, nil
	}
	return false, fmt.Errorf("%q is neither yes nor no", format.Clip(text))
}

func share(s, global section, file string, note func(int, string)) (x Share, err error) {
	get := func(key string) value {
		if v, ok := s.values[key]; ok {
			return v
		}
		return global.values[key]
	}
	flag := func(key string, otherwise bool) bool {
		v := get(key)
		if v.text == "" {
			return otherwise
		}
		yes, berr := boolean(v.text)
		if berr != nil && err == nil {
			err = &format.Error{File: file, Line: v.line, What: berr.Error()}
		}
		return yes
	}
	list := func(key string) []string {
		v := get(key)
		var out []string
		for _, name := range names(v.text) {
			name = strings.ReplaceAll(name, "%S", s.name)
			if netgroup(name) {
				note(v.line, fmt.Sprintf("%q is a group of a name service for networks, of whom nothing is known, and fits nobody", format.Clip(name)))
				continue
			}
			name = here(name, global.values["netbiosname"].text)
			if strings.Contains(name, "%") {
				note(v.line, fmt.Sprintf("%q isn't understood, and fits nobody", format.Clip(name)))
				continue
			}
			out = append(out, listed(name))
		}
		return out
	}
	if !flag("available", true) {
		note(s.line, fmt.Sprintf("share %s is not available, and left out", format.Clip(s.name)))
		return Share{}, err
	}
	x = Share{Name: s.name, Line: s.line, Path: get("path").text, ReadOnly: flag("readonly", true), Limited: get("validusers").text != "",
		Only: list("validusers"), Never: list("invalidusers"), Reading: list("readlist"), Writing: list("writelist"), Administrators: list("adminusers"),
		Passes: get("adminusers").line > 0,
		Hides:  flag("hideunreadable", false)}
	if as := list("forceuser"); len(as) == 1 {
		x.As = strings.TrimPrefix(as[0], "@")
	}
	if v := get("forcegroup"); v.text != "" {
		x.GroupOfMembers = strings.HasPrefix(v.text, "+")
		for _, g := range list("forcegroup") {
			x.Group = "@" + strings.TrimPrefix(g, "@")
		}
	}
	x.Runs = flag("executealways", false)
	allow, deny := get("hostsallow").text, get("hostsdeny").text
	x.NoMachine = refusesAll(allow, deny)
	for _, key := range slices.Sorted(maps.Keys(unsure)) {
		if v := get(key); unsure[key](v.text) && !(key == "hostsdeny" && x.NoMachine) {
			x.Uncounted = append(x.Uncounted, v.said())
		}
	}
	modules := names(strings.ToLower(get("vfsobjects").text))
	for _, m := range modules {
		m, _, _ = strings.Cut(m, ":")
		switch {
		case m == "readonly" && get("readonlyperiod").text == "":
			x.ReadOnly, x.Writing = true, nil // whoever is on a list of writers
		case !slices.Contains(harmless, m):
			x.Uncounted = append(x.Uncounted, "vfs objects = "+m)
		}
	}
	if keeps := func(text string) bool { return strings.Contains(strings.ToLower(text), "acl_xattr") }; keeps(global.values["vfsobjects"].text) && !keeps(get("vfsobjects").text) {
		x.Uncounted = append(x.Uncounted, "vfs objects = "+get("vfsobjects").text)
	}
	if v := s.values["ignoresystemacls"]; v.line > 0 && !strings.EqualFold(v.text, global.values["ignoresystemacls"].text) {
		x.Uncounted = append(x.Uncounted, v.said())
	}
	if strings.Contains(x.Path, "%") {
		note(get("path").line, fmt.Sprintf("the folder %q isn't understood", format.Clip(x.Path)))
		x.Path = ""
	}
	return x, err
}

// names splits a list at commas and blanks, but for those in quotes.
func names(text string) (out []string) {
	var b strings.Builder
	quoted := false
	end := func() {
		if b.Len() > 0 {
			out = append(out, b.String())
			b.Reset()
		}
	}
	for _, r := range text {
		switch {
		case r == '"':
			quoted = !quoted
		case !quoted && (r == ',' || r == ' ' || r == '\t' || r == ';'):
			end()
		default:
			b.WriteRune(r)
		}
	}
	end()
	return out
}

// netgroup tells whether a name is looked for among netgroups alone: it begins with &,
// and with no + beside.
func netgroup(name string) bool {
	marks := name[:len(name)-len(strings.TrimLeft(name, "@+&"))]
	return strings.Contains(marks, "&") && !strings.ContainsAny(marks, "+@")
}

// here takes the server's own name from before a name.
func here(name, own string) string {
	bare := strings.TrimLeft(name, "@+&")
	domain, rest, ok := strings.Cut(bare, `\`)
	if ok && domain != "" && strings.EqualFold(own, domain) {
		return name[:len(name)-len(bare)] + rest
	}
	return name
}

// listed writes a name of a list: one of a group, marked @, + or & in the file,
// begins with @.
func listed(name string) string {
	rest := strings.TrimLeft(name, "@+&")
	if rest != name {
		return "@" + rest
	}
	return name
}
