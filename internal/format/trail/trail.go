// Package trail reads who tried what from what servers write down: the lines
// of an SMB server's vfs_full_audit(8) with the prefix %u|%I|%S, as syslog
// (RFC 5424, RFC 3164) or the server's own log has them, and Linux audit
// records (audit.log, auditd(8)). What the estate knows of it never lives here.
package trail

import (
	"bufio"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"regexp"
	"strconv"
	"strings"
	"time"

	"tarnwold/internal/format"
)

// Result is what came of a try.
type Result int64

const (
	Granted Result = iota
	Refused        // for lack of rights
	Failed         // it isn't told why: for lack of rights, or since it wasn't there
)

func (r Result) String() string { return [...]string{"granted", "refused", "failed"}[r] }

// Record is one thing somebody tried.
type Record struct {
	At     time.Time
	User   string // as it was written; uid:N where a number was
	Act    string // list, read, save, create, make-folder, delete, rename, change-rules, read-rules, take-owner
	Share  string // through which; "": at the server itself
	Path   string // the server's own, or an address where Whole
	Whole  bool
	Result Result
	Raw    string // what makes it itself
}

const (
	longest = 1 << 20
	most    = 50_000_000
)

// SMB reads audit lines of an SMB server. now tells the year of times that
// have none. each is called once a record; what is no audit line is passed
// over and counted.
func SMB(r io.Reader, file string, now time.Time, each func(Record) error) (passed int, err error) {
	s := scanner(r)
	line, n := 0, 0
	var header time.Time // of the server's own log, whose lines come in pairs
	var head string
	for s.Scan() {
		line++
		text := strings.TrimRight(s.Text(), "\r")
		if t, ok := ownHeader(text); ok {
			header, head = t, text
			continue
		}
		at, rest, ok := stamp(text, header, now)
		if !ok {
			passed++
			continue
		}
		rec, ok := audited(rest)
		if !ok {
			passed++
			continue
		}
		rec.At = at
		rec.Raw = text
		if strings.HasPrefix(text, "  ") {
			rec.Raw = head + text
		}
		if n++; n > most {
			return passed, &format.Error{File: file, Line: line, What: fmt.Sprintf("more than %d records", most)}
		}
		if err := each(rec); err != nil {
			return passed, err
		}
	}
	return passed, ended(s, file, line)
}

func scanner(r io.Reader) *bufio.Scanner {
	s := bufio.NewScanner(r)
	s.Buffer(make([]byte, 0, 1<<16), longest)
	return s
}

func ended(s *bufio.Scanner, file string, line int) error {
	if errors.Is(s.Err(), bufio.ErrTooLong) {
		return &format.Error{File: file, Line: line + 1, What: fmt.Sprintf("the line is longer than %d bytes", longest)}
	}
	return s.Err()
}

// ownHeader reads the line before each of the server's own log:
// [2026/11/25 22:20:09.224128,  1] ../../source3/modules/vfs_full_audit.c…
func ownHeader(text string) (time.Time, bool) {
	if len(text) < 28 || text[0] != '[' {
		return time.Time{}, false
	}
	at, err := time.ParseInLocation("2006/01/02 15:04:05.999999", strings.TrimSpace(strings.SplitN(text[1:], ",", 2)[0]), time.Local)
	return at, err == nil
}

// stamp finds when a line was written, and the record in it.
func stamp(text string, header, now time.Time) (time.Time, string, bool) {
	if strings.HasPrefix(text, "  ") {
		return header, strings.TrimSpace(text), !header.IsZero()
	}
	i := strings.Index(text, "smbd_audit")
	if i < 0 {
		return time.Time{}, "", false
	}
	k := strings.Index(text[i:], ": ")
	if k < 0 {
		return time.Time{}, "", false
	}
	rest := text[i+k+2:]
	if j := strings.IndexByte(text, '>'); strings.HasPrefix(text, "<") && j > 0 && j < 6 { // the priority
		text = strings.TrimPrefix(text[j+1:], "1 ")
	}
	if word, _, _ := strings.Cut(text, " "); len(word) > 19 {
		if at, err := time.Parse(time.RFC3339, word); err == nil {
			return at, rest, true
		}
	}
	if len(text) > 15 {
		if at, err := time.ParseInLocation(time.Stamp, text[:15], time.Local); err == nil {
			at = at.AddDate(now.Year(), 0, 0)
			if at.After(now.Add(24 * time.Hour)) { // it was last year
				at = at.AddDate(-1, 0, 0)
			}
			return at, rest, true
		}
	}
	return time.Time{}, "", false
}

// Access masks as a client may ask for them: [MS-SMB2] §2.2.13.1.
const (
	readData     = 0x1
	writeData    = 0x2 | 0x4
	deletes      = 0x10000
	readRules    = 0x20000
	writeRules   = 0x40000
	writeOwner   = 0x80000
	genericRead  = 0x80000000
	genericWrite = 0x40000000
	genericAll   = 0x10000000
	maximum      = 0x2000000
)

// audited reads USER|ADDRESS|SHARE|OPERATION|RESULT|…
func audited(text string) (Record, bool) {
	f := strings.SplitN(text, "|", 6)
	if len(f) < 5 || f[0] == "" || f[2] == "" {
		return Record{}, false
	}
	r := Record{User: f[0], Share: f[2]}
	rest := ""
	if len(f) == 6 {
		rest = f[5]
	}
	switch res := f[4]; {
	case res == "ok":
	case strings.HasPrefix(res, "fail"):
		r.Result = Failed // the reason that is told is not that of the refusal
		if strings.Contains(res, "Permission denied") || strings.Contains(res, "Operation not permitted") {
			r.Result = Refused
		}
	default:
		return Record{}, false
	}
	switch f[3] {
	case "create_file":
		p := strings.SplitN(rest, "|", 4)
		if len(p) != 4 {
			return Record{}, false
		}
		mask, err := strconv.ParseUint(strings.TrimPrefix(p[0], "0x"), 16, 32)
		if err != nil {
			return Record{}, false
		}
		r.Path = p[3]
		r.Act = actOf(uint32(mask), p[1] == "dir", p[2])
	case "unlinkat":
		r.Act, r.Path = "delete", rest
	case "mkdirat":
		r.Act, r.Path = "make-folder", rest
	case "renameat":
		r.Act, r.Path = "rename", rest
		if i := strings.Index(rest, "|/"); i >= 0 {
			r.Path = rest[:i]
		}
	case "fset_nt_acl":
		r.Act, r.Path = "change-rules", rest
		if i := strings.LastIndex(rest, " ["); i >= 0 && strings.HasSuffix(rest, "]") {
			r.Path = rest[:i]
		}
	case "connect":
		if r.Result == Granted {
			return Record{}, false
		}
		r.Act = "list"
		r.Result = Refused
	default:
		return Record{}, false
	}
	if r.Act == "" || r.Act != "list" && !strings.HasPrefix(r.Path, "/") {
		return Record{}, false
	}
	if len(r.Path) > 1 {
		r.Path = strings.TrimRight(r.Path, "/")
	}
	return r, true
}

// actOf says what somebody wanted who opened something with a mask; "" where
// they only looked at its particulars.
func actOf(mask uint32, dir bool, how string) string {
	switch how {
	case "create", "overwrite_if", "open_if", "supersede":
		if how == "create" && dir {
			return "make-folder"
		}
		if how == "create" || mask&(writeData|genericWrite|genericAll) != 0 && how != "open_if" {
			return "create"
		}
	}
	switch {
	case mask&writeOwner != 0:
		return "take-owner"
	case mask&writeRules != 0:
		return "change-rules"
	case mask&deletes != 0:
		return "delete"
	case mask&(writeData|genericWrite|genericAll) != 0:
		if dir {
			return "create"
		}
		return "save"
	case mask&(readData|genericRead|maximum) != 0:
		if dir {
			return "list"
		}
		return "read"
	case mask == readRules:
		return "read-rules"
	}
	return ""
}

var auditID = regexp.MustCompile(`msg=audit\((\d+)\.(\d+):(\d+)\):`)

// event is the records of one system call.
type event struct {
	id    string
	at    time.Time
	who   string
	act   string
	exit  string
	ok    bool
	known bool
	cwd   string
	paths []pathRecord
	raw   strings.Builder
}

type pathRecord struct{ name, kind string }

// Linux reads audit records: system calls with their PATH records. Refused are
// those that exit with -EACCES or -EPERM.
func Linux(r io.Reader, file string, each func(Record) error) (passed int, err error) {
	s := scanner(r)
	line := 0
	open := map[string]*event{}
	var order []string
	end := func(e *event) error {
		rec, ok := e.record()
		if !ok {
			passed++
			return nil
		}
		return each(rec)
	}
	for s.Scan() {
		line++
		text := s.Text()
		m := auditID.FindStringSubmatch(text)
		if m == nil {
			passed++
			continue
		}
		id := m[1] + "." + m[2] + ":" + m[3]
		e := open[id]
		if e == nil {
			secs, err := strconv.ParseInt(m[1], 10, 64)
			if err != nil || secs > 1<<36 {
				return passed, &format.Error{File: file, Line: line, What: "the time of the record can't be read"}
			}
			e = &event{id: id, at: time.Unix(secs, 0)}
			open[id] = e
			order = append(order, id)
		}
		e.take(text)
		// Records of one event come together, hardly ever with others between.
		for len(order) > 64 {
			if err := end(open[order[0]]); err != nil {
				return passed, err
			}
			delete(open, order[0])
			order = order[1:]
		}
	}
	if err := ended(s, file, line); err != nil {
		return passed, err
	}
	for _, id := range order {
		if err := end(open[id]); err != nil {
			return passed, err
		}
	}
	return passed, nil
}

// fields reads KEY=VALUE pairs; values in quotes are as they stand, others are
// left as they are.
func fields(text string) map[string]string {
	out := map[string]string{}
	for i := 0; i < len(text); {
		for i < len(text) && (text[i] == ' ' || text[i] == 0x1d || text[i] == '\'') {
			i++
		}
		eq := strings.IndexByte(text[i:], '=')
		if eq < 0 {
			break
		}
		key := text[i : i+eq]
		if j := strings.LastIndexByte(key, ' '); j >= 0 {
			key = key[j+1:]
		}
		i += eq + 1
		if i < len(text) && text[i] == '"' {
			j := strings.IndexByte(text[i+1:], '"')
			if j < 0 {
				break
			}
			out[key] = text[i : i+j+2]
			i += j + 2
			continue
		}
		j := strings.IndexAny(text[i:], " \x1d")
		if j < 0 {
			j = len(text) - i
		}
		if _, had := out[key]; !had {
			out[key] = text[i : i+j]
		}
		i += j
	}
	return out
}

// spelt reads a name: in quotes, or in hexadecimal where it has odd signs.
func spelt(s string) string {
	if strings.HasPrefix(s, `"`) {
		return strings.Trim(s, `"`)
	}
	if b, err := hex.DecodeString(s); err == nil && len(b) > 0 {
		return strings.TrimRight(string(b), "\x00")
	}
	return ""
}

func (e *event) take(text string) {
	e.raw.WriteString(text)
	e.raw.WriteByte('\n')
	f := fields(text)
	switch f["type"] {
	case "SYSCALL":
		e.known = true
		e.ok, e.exit = f["success"] == "yes", f["exit"]
		uid := f["auid"]
		if uid == "4294967295" || uid == "-1" || uid == "unset" || uid == "" {
			uid = f["uid"]
		}
		e.who = "uid:" + uid
		if _, err := strconv.ParseUint(uid, 10, 32); err != nil {
			e.who = uid // told by name
		}
		e.act = callAct(f)
	case "CWD":
		e.cwd = spelt(f["cwd"])
	case "PATH":
		e.paths = append(e.paths, pathRecord{spelt(f["name"]), f["nametype"]})
	}
}

// calls are the system calls that are told of, by machine: those of files.
var calls = map[string]map[string]string{
	"c000003e": { // x86_64
		"2": "open", "85": "creat", "257": "openat", "437": "openat", "87": "unlink", "263": "unlink", "84": "unlink", "82": "rename", "264": "rename", "316": "rename",
		"83": "mkdir", "258": "mkdir", "90": "chmod", "91": "chmod", "268": "chmod", "452": "chmod", "92": "chown", "93": "chown", "94": "chown", "260": "chown",
		"188": "setxattr", "189": "setxattr", "190": "setxattr", "76": "truncate", "59": "exec", "80": "chdir",
	},
	"c00000b7": { // aarch64
		"56": "openat", "437": "openat", "35": "unlink", "38": "rename", "276": "rename", "34": "mkdir", "52": "chmod", "53": "chmod", "54": "chown", "55": "chown",
		"5": "setxattr", "6": "setxattr", "7": "setxattr", "45": "truncate", "221": "exec", "49": "chdir",
	},
}

var named = map[string]string{
	"open": "open", "openat": "openat", "openat2": "openat", "creat": "creat", "unlink": "unlink", "unlinkat": "unlink", "rmdir": "unlink", "rename": "rename", "renameat": "rename",
	"renameat2": "rename", "mkdir": "mkdir", "mkdirat": "mkdir", "chmod": "chmod", "fchmod": "chmod", "fchmodat": "chmod", "chown": "chown", "fchown": "chown", "lchown": "chown",
	"fchownat": "chown", "setxattr": "setxattr", "truncate": "truncate", "execve": "exec", "chdir": "chdir",
}

func callAct(f map[string]string) string {
	call := calls[f["arch"]][f["syscall"]]
	if call == "" {
		call = named[strings.Trim(f["syscall"], `"`)]
	}
	if call == "" {
		call = named[strings.Trim(f["SYSCALL"], `"`)]
	}
	arg := func(name string) uint64 {
		n, _ := strconv.ParseUint(f[name], 16, 64)
		return n
	}
	switch call {
	case "open", "openat":
		flags := arg("a1")
		if call == "openat" {
			flags = arg("a2")
		}
		switch {
		case flags&3 != 0: // O_WRONLY, O_RDWR
			return "save"
		case flags&0x10000 != 0 || flags&0x4000 != 0 && f["arch"] == "c00000b7": // O_DIRECTORY
			return "list"
		}
		return "read"
	case "creat":
		return "create"
	case "truncate":
		return "save"
	case "unlink":
		return "delete"
	case "rename":
		return "rename"
	case "mkdir":
		return "make-folder"
	case "chmod", "setxattr":
		return "change-rules"
	case "chown":
		return "take-owner"
	case "exec":
		return "read"
	case "chdir":
		return "list"
	}
	return ""
}

// record makes one record of an event: about what it names last but its
// parents.
func (e *event) record() (Record, bool) {
	r := Record{At: e.at, User: e.who, Act: e.act, Raw: e.raw.String()}
	if !e.known || e.act == "" || len(e.paths) == 0 {
		return r, false
	}
	switch {
	case e.ok:
	case e.exit == "-13" || e.exit == "-1" || e.exit == "EACCES" || e.exit == "EPERM":
		r.Result = Refused
	default:
		return r, false
	}
	at := -1
	for i, p := range e.paths {
		if p.kind != "PARENT" && p.name != "" && at < 0 {
			at = i
		}
	}
	for i := len(e.paths) - 1; i >= 0 && at < 0; i-- {
		if e.paths[i].name != "" {
			at = i
		}
	}
	if at < 0 {
		return r, false
	}
	p := e.paths[at]
	r.Path = p.name
	if !strings.HasPrefix(r.Path, "/") {
		if e.cwd == "" {
			return r, false
		}
		r.Path = strings.TrimRight(e.cwd, "/") + "/" + r.Path
	}
	if p.kind == "CREATE" && (r.Act == "save" || r.Act == "read") {
		r.Act = "create"
	}
	return r, true
}
