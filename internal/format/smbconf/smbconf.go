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
	Home           string // the user whose own share it is
	// Uncounted is what the file says of the share that changes an answer and isn't
	// counted in any: each parameter with its value.
	Uncounted []string
}

// Note is what the file says and no answer counts.
type Note struct {
	File string `json:"file,omitempty"` // that is included; "": the configuration itself
	Line int    `json:"line"`
	What string `json:"what"`
}

// longest is the most bytes a line may have.
const longest = 64 << 10

type section struct {
	name string
	spot
	values map[string]value
}

type value struct {
	key  string // as it is written
	text string
	spot
}

// spot is where something stands.
type spot struct {
	file string
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

// idle tells of a parameter that it changes no answer: as it was measured, or since it
// speaks of printing, logs, the network, or what clients see.
func idle(short string) bool {
	if slices.Contains(idleOnes, short) {
		return true
	}
	return slices.ContainsFunc(idleBegin, func(p string) bool { return strings.HasPrefix(short, p) })
}

var idleOnes = strings.Fields(`accessbasedshareenum browseable browsable comment inheritpermissions inheritacls aclgroupcontrol dosfilemode mapaclinherit
	createmask createmode directorymask directorymode forcecreatemode forcedirectorymode ntaclsupport storedosattributes casesensitive preservecase
	shortpreservecase workgroup serverstring serverrole security passdbbackend loglevel logfile maxlogsize logging debuglevel panicaction interfaces
	bindinterfacesonly dnsproxy smbports minprotocol maxprotocol serverminprotocol servermaxprotocol clientminprotocol clientmaxprotocol serversigning clientsigning
	smbencrypt localmaster preferredmaster domainmaster oslevel winssupport winsserver nameresolveorder timeserver unixcharset doscharset
	hidedotfiles hidefiles hidespecialfiles oplocks level2oplocks kerneloplocks locking strictlocking blockinglocks strictsync syncalways deadtime keepalive
	socketoptions readraw writeraw usesendfile aioreadsize aiowritesize maxconnections maxsmbdprocesses piddirectory lockdirectory statedirectory cachedirectory privatedir
	netbiosaliases realm kerberosmethod dedicatedkeytabfile unixpasswordsync passwdprogram passwdchat pampasswordchange obeypamrestrictions
	loadprinters printing printcapname printcap printable printok usershareallowguests usersharemaxshares maptoguest guestaccount
	multicastdnsregister disablespoolss easupport mapsystem maphidden maparchive mapreadonly volume fstype dfreecommand  allocationroundupsize`)

var idleBegin = []string{"recycle:", "full_audit:", "idmap", "winbind", "fruit:", "shadow:", "log", "print", "ldap", "ncalrpc", "spoolss", "rpc_", "tls"}

// none are sections that are no shares.
var none = []string{"global", "homes", "printers", "print$"}

// Config is what a configuration says.
type Config struct {
	Shares []Share
	Notes  []Note
	Homes  *Homes // nil: no share is made for each user
}

// Homes is what a configuration says of the share that each user has of their own name.
type Homes struct {
	Line   int
	of     section
	global section
}

// Of gives a user's own share; home is the folder that the system has for them, "" where
// that isn't known. The share has no path where none follows.
func (h *Homes) Of(user, home string) (Share, error) {
	c := &reading{note: func(spot, string) {}}
	x, err := c.share(section{user, h.of.spot, h.of.values}, h.global, &whose{user, home})
	if x.Path == "" && h.of.values["path"].text == "" {
		x.Path = home
	}
	x.Home = user
	return x, err
}

// whose is the one user that a share is for.
type whose struct{ name, home string }

// reading is a configuration being read.
type reading struct {
	note func(at spot, what string)
}

// Read reads a configuration. beside opens a file that it includes, by its name alone; nil:
// none is opened.
func Read(r io.Reader, file string, beside func(name string) (io.ReadCloser, error)) (*Config, error) {
	out := &Config{}
	c := &reading{func(at spot, what string) {
		n := Note{Line: at.line, What: what}
		if at.file != file {
			n.File = at.file
		}
		if !slices.Contains(out.Notes, n) {
			out.Notes = append(out.Notes, n)
		}
	}}
	in := &scanning{reading: c, beside: beside, missing: map[spot]bool{}}
	if err := in.file(r, file, 0); err != nil {
		return nil, err
	}
	all := in.out
	var global section
	for _, s := range all {
		if strings.EqualFold(s.name, "global") {
			global = s
		}
	}
	for i := range all {
		c.copied(all, i)
	}
	for _, s := range all {
		for _, key := range keys(s.values) {
			if key == "hostsdeny" && refusesAll(cmp.Or(s.values["hostsallow"].text, global.values["hostsallow"].text), s.values[key].text) {
				continue // which is counted
			}
			if key == "include" && in.missing[s.values[key].spot] {
				continue // which was said
			}
			if why, ok := uncounted[key]; ok && on(key, s.values[key].text) {
				c.note(s.values[key].spot, why)
			}
		}
		if strings.EqualFold(s.name, "homes") {
			out.Homes = &Homes{s.line, s, global}
		}
		if slices.Contains(none, strings.ToLower(s.name)) {
			continue
		}
		x, err := c.share(s, global, nil)
		if err != nil {
			return nil, err
		}
		if x.Name != "" {
			out.Shares = append(out.Shares, x)
		}
	}
	in.strangers()
	return out, nil
}

// copied gives a section what it takes from one that stands before it and says nothing of
// itself.
func (c *reading) copied(all []section, i int) {
	v, ok := all[i].values["copy"]
	if !ok {
		return
	}
	for _, from := range all[:i] {
		if !strings.EqualFold(from.name, v.text) {
			continue
		}
		for key, x := range from.values {
			if _, own := all[i].values[key]; !own && key != "copy" {
				all[i].values[key] = x
			}
		}
		delete(all[i].values, "copy")
		return
	}
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

// mostIncluded is how deep files include others.
const mostIncluded = 8

// scanning is files being read into sections.
type scanning struct {
	*reading
	beside func(name string) (io.ReadCloser, error)
	out    []section
	// strange are parameters that are none this package knows, by their lines.
	strange []value
	missing map[spot]bool // files that are included and aren't there
}

// strangers tells which lines say what isn't known here.
func (x *scanning) strangers() {
	var said []string
	for _, v := range x.strange {
		said = append(said, fmt.Sprintf("%s (line %d)", format.Clip(v.key), v.line))
	}
	const most = 6
	if n := len(said) - most; n > 0 {
		said = append(said[:most], fmt.Sprintf("and %d more", n))
	}
	if len(said) > 0 {
		x.note(x.strange[0].spot, "not known here, whether they change an answer or not: "+strings.Join(said, ", "))
	}
}

// file reads a file, and those it includes where it does.
func (x *scanning) file(r io.Reader, file string, deep int) error {
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
				return &format.Error{File: file, Line: begun, What: "the line is too long"}
			}
			continue
		}
		line, whole = strings.TrimSpace(whole+line), ""
		switch {
		case line == "" || line[0] == '#' || line[0] == ';':
		case line[0] == '[':
			name, ok := strings.CutSuffix(line[1:], "]")
			if name = strings.TrimSpace(name); !ok || name == "" {
				return &format.Error{File: file, Line: begun, What: "wanted [NAME] of a share"}
			}
			if i := slices.IndexFunc(x.out, func(s section) bool { return strings.EqualFold(s.name, name) }); i >= 0 { // it goes on
				x.out = append(slices.Delete(slices.Clone(x.out), i, i+1), x.out[i])
			} else {
				x.out = append(x.out, section{name, spot{file, begun}, map[string]value{}})
			}
		default:
			if err := x.line(line, file, begun, deep); err != nil {
				return err
			}
		}
	}
	if err := in.Err(); err != nil {
		return &format.Error{File: file, Line: n + 1, What: "the line is too long, or can't be read: " + err.Error()}
	}
	return nil
}

// line takes a parameter into the section that is read.
func (x *scanning) line(line, file string, at, deep int) error {
	key, text, ok := strings.Cut(line, "=")
	if !ok || strings.TrimSpace(key) == "" {
		return &format.Error{File: file, Line: at, What: "wanted NAME = VALUE, or [NAME] of a share"}
	}
	if len(x.out) == 0 {
		x.out = append(x.out, section{"global", spot{file, at}, map[string]value{}})
	}
	said := strings.Join(strings.Fields(key), " ")
	short := strings.ToLower(strings.Join(strings.Fields(key), ""))
	name, known := alias[short]
	if !known {
		if !idle(short) {
			x.strange = append(x.strange, value{said, text, spot{file, at}})
		}
		return nil
	}
	text = strings.TrimSpace(text)
	if rest, not := strings.CutPrefix(name, "!"); not {
		yes, err := boolean(text)
		if err != nil {
			return &format.Error{File: file, Line: at, What: err.Error()}
		}
		name, text = rest, fmt.Sprint(!yes)
	}
	if name == "include" && x.beside != nil && !strings.Contains(text, "%") && !strings.EqualFold(text, "registry") && text != "" {
		if deep == mostIncluded {
			return &format.Error{File: file, Line: at, What: "files include others without an end"}
		}
		base := text[strings.LastIndexByte(text, '/')+1:]
		r, err := x.beside(base)
		if err == nil {
			defer r.Close()
			return x.file(r, base, deep+1)
		}
		x.missing[spot{file, at}] = true
		x.note(spot{file, at}, fmt.Sprintf("%s isn't there beside this file, and what it says isn't counted", format.Clip(base)))
	}
	x.out[len(x.out)-1].values[name] = value{said, text, spot{file, at}}
	return nil
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

// share is what a section says; one is the user that it is for, nil where it is for all.
func (c *reading) share(s, global section, one *whose) (x Share, err error) {
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
			err = &format.Error{File: v.file, Line: v.line, What: berr.Error()}
		}
		return yes
	}
	var strange []string // lists with what isn't understood
	list := func(key string) []string {
		v := get(key)
		var out []string
		for _, name := range names(v.text) {
			if strings.HasSuffix(name, "@") { // what special accounts are called here, and nobody there
				continue
			}
			name = listFilled(name, s.name, one)
			if everybody(name) {
				out = append(out, "everyone@")
				continue
			}
			if netgroup(name) {
				c.note(v.spot, fmt.Sprintf("%q is a group of a name service for networks, of whom nothing is known, and fits nobody", format.Clip(name)))
				continue
			}
			name = here(name, global.values["netbiosname"].text)
			if strings.Contains(name, "%") {
				c.note(v.spot, fmt.Sprintf("%q isn't understood, and fits nobody", format.Clip(name)))
				if said := v.said(); !slices.Contains(strange, said) {
					strange = append(strange, said)
				}
				continue
			}
			out = append(out, listed(name))
		}
		return out
	}
	if !flag("available", true) {
		c.note(s.spot, fmt.Sprintf("share %s is not available, and left out", format.Clip(s.name)))
		return Share{}, err
	}
	x = Share{Name: s.name, Line: s.line, Path: get("path").text, ReadOnly: flag("readonly", true), Limited: get("validusers").text != "",
		Only: list("validusers"), Never: list("invalidusers"), Reading: list("readlist"), Writing: list("writelist"), Administrators: list("adminusers"),
		Passes: get("adminusers").line > 0,
		Hides:  flag("hideunreadable", false)}
	if as := list("forceuser"); len(as) == 1 && as[0] != "everyone@" {
		x.As = strings.TrimPrefix(as[0], "@")
	}
	if v := get("forcegroup"); v.text != "" && strings.TrimLeft(v.text, "+@") != "%G" { // their own
		x.GroupOfMembers = strings.HasPrefix(v.text, "+")
		for _, g := range list("forcegroup") {
			x.Group = "@" + strings.TrimPrefix(g, "@")
		}
	}
	x.Uncounted = strange
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
	x.Path = filled(x.Path, s.name, one)
	if strings.Contains(x.Path, "%") {
		c.note(get("path").spot, fmt.Sprintf("the folder %q hangs on who connects, and isn't counted", format.Clip(x.Path)))
		x.Uncounted = append(x.Uncounted, get("path").said())
		x.Path = ""
	}
	return x, err
}

// filled puts what is known into the place of a folder's variables: the share's name, and of
// a share that is for one user who that is.
func filled(text, share string, one *whose) string {
	text = listFilled(text, share, one)
	if one != nil {
		text = strings.ReplaceAll(text, "%u", one.name)
		if one.home != "" {
			text = strings.ReplaceAll(text, "%H", one.home)
		}
	}
	return text
}

// listFilled puts what is known into the place of a list's variables, which are fewer: a
// list is read before it is known whom the connection acts as.
func listFilled(text, share string, one *whose) string {
	text = strings.ReplaceAll(text, "%S", share)
	for _, domain := range []string{`%D\`, "%D%w", "%D/", "%D+"} { // whichever somebody is of
		text = strings.ReplaceAll(text, domain, "")
	}
	if one != nil {
		text = strings.ReplaceAll(text, "%U", one.name)
	}
	return text
}

// everybody tells whether a list's name is that of whoever connects, or of the group they
// are first in. "%u" and "%g" are none: a list takes them as they stand.
func everybody(name string) bool {
	return slices.Contains([]string{"%U", "@%G", "+%G"}, name)
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
