package rule

import (
	"errors"
	"fmt"
	"strings"

	"tarnwold/core/account"
	"tarnwold/core/right"
	"tarnwold/core/rule/condition"
)

// Line is an entry as a person writes it, before it meets an item: a level or
// rights instead of bits. Its written form is
//
//	kind who what [scope]
//
// for example "allow wardrobe edit tree", "deny volunteers full here+files once".
type Line struct {
	Kind  Kind
	Who   account.ID
	What  right.What
	Scope Scope
	On    Flags // for Audit: OnSuccess, OnFailure
}

// ErrFoldersOnly is asking for a level that speaks of folders only on a file.
var ErrFoldersOnly = errors.New("the level speaks of folders only, and this is a file")

// Entries gives what the line becomes on a folder or a file. A level whose
// parts differ becomes two entries where its scope covers both kinds.
func (l Line) Entries(folder bool) ([]Entry, error) {
	if !folder {
		if l.What.File == 0 {
			return nil, ErrFoldersOnly
		}
		return []Entry{{Kind: l.Kind, Flags: l.On, Rights: l.What.File, Who: l.Who}}, nil
	}
	if l.What.Folder == l.What.File {
		return []Entry{l.entry(l.What.Folder, l.Scope)}, nil
	}
	once := l.Scope & Once
	var es []Entry
	if s := l.Scope & (Here | Folders); s != 0 && l.What.Folder != 0 {
		es = append(es, l.entry(l.What.Folder, s|once))
	}
	if s := l.Scope & Files; s != 0 && l.What.File != 0 {
		es = append(es, l.entry(l.What.File, s|once))
	}
	if len(es) == 0 {
		return nil, fmt.Errorf("the level says nothing about %s", l.Scope)
	}
	return es, nil
}

func (l Line) entry(rights right.Set, s Scope) Entry {
	return Entry{Kind: l.Kind, Flags: s.Flags() | l.On, Rights: rights, Who: l.Who}
}

// Language is what turns words into entries and back: the levels in use and
// the names of accounts.
type Language struct {
	Levels right.Levels
	Name   func(account.ID) string          // an account's name, as Who reads it
	Who    func(string) (account.ID, error) // only for ParseLine
}

// Write gives the entry's written form. On a file the scope goes without
// saying.
func (g Language) Write(e Entry, folder bool) string {
	words := []string{e.Kind.String(), quote(g.Name(e.Who)), g.Levels.Write(e.Rights, e.part(folder))}
	if folder {
		words = append(words, e.Scope().String())
	}
	var on []string
	if e.Flags&OnSuccess != 0 {
		on = append(on, "success")
	}
	if e.Flags&OnFailure != 0 {
		on = append(on, "failure")
	}
	if len(on) > 0 {
		words = append(words, "on", strings.Join(on, ","))
	}
	if text := g.condition(e); text != "" {
		words = append(words, "if", text)
	}
	return strings.Join(words, " ")
}

// condition writes what has to be so for an entry to count; "" where it has no condition
// that can be read.
func (g Language) condition(e Entry) string {
	switch e.Kind {
	case AllowIf, DenyIf, AllowObjectIf, DenyObjectIf, AuditIf, AuditObjectIf:
	default:
		return ""
	}
	n, err := condition.Decode([]byte(e.Extra.Tail))
	if err != nil {
		return "a condition that can't be read"
	}
	text, _ := n.Format(func(id account.ID) string { return g.Name(id) })
	return text
}

// part says which part of a level the entry's rights are to be named by.
func (e Entry) part(folder bool) right.Part {
	s := e.Scope()
	switch {
	case !folder:
		return right.OnFile
	case s&Files == 0:
		return right.OnFolder
	case s&(Here|Folders) == 0:
		return right.OnFile
	}
	return right.OnBoth
}

func quote(name string) string {
	if name == "" || strings.ContainsAny(name, " \t\"") {
		return `"` + strings.ReplaceAll(name, `"`, `""`) + `"`
	}
	return name
}

// Words cuts a written line into words; a word in double quotes may hold
// blanks, and a doubled quote in it stands for one.
func Words(s string) ([]string, error) {
	var words []string
	for i := 0; i < len(s); {
		switch {
		case s[i] == ' ' || s[i] == '\t':
			i++
		case s[i] == '"':
			var w strings.Builder
			j := i + 1
			for ; ; j++ {
				if j >= len(s) {
					return nil, fmt.Errorf("column %d: the quote is not closed", i+1)
				}
				if s[j] != '"' {
					w.WriteByte(s[j])
				} else if j+1 < len(s) && s[j+1] == '"' {
					w.WriteByte('"')
					j++
				} else {
					break
				}
			}
			words = append(words, w.String())
			i = j + 1
		default:
			j := strings.IndexAny(s[i:], " \t")
			if j < 0 {
				j = len(s) - i
			}
			words = append(words, s[i:i+j])
			i += j
		}
	}
	return words, nil
}

// ParseLine reads the written form of an allow, deny or audit entry. The
// scope is the tree where none is written.
func (g Language) ParseLine(s string) (Line, error) {
	words, err := Words(s)
	if err != nil {
		return Line{}, err
	}
	if len(words) < 3 {
		return Line{}, fmt.Errorf("%q: wanted kind, account, level and perhaps a scope, as in: allow wardrobe edit tree", s)
	}
	l := Line{Scope: Tree}
	switch words[0] {
	case "allow":
		l.Kind = Allow
	case "deny":
		l.Kind = Deny
	case "audit":
		l.Kind = Audit
	default:
		return Line{}, fmt.Errorf("%q is none of allow, deny, audit", words[0])
	}
	if l.Who, err = g.Who(words[1]); err != nil {
		return Line{}, err
	}
	if l.What, err = g.Levels.Parse(words[2]); err != nil {
		return Line{}, err
	}
	rest := words[3:]
	if n := len(rest); n >= 2 && rest[n-2] == "on" {
		if l.On, err = ParseOn(rest[n-1]); err != nil {
			return Line{}, err
		}
		rest = rest[:n-2]
	}
	if (l.Kind == Audit) != (l.On != 0) {
		return Line{}, fmt.Errorf("%q: an audit entry, and only that, says on success, failure or both", s)
	}
	if len(rest) > 0 {
		l.Scope, err = ParseScope(strings.Join(rest, " "))
	}
	return l, err
}

// ParseOn reads success, failure or both joined by a comma.
func ParseOn(s string) (Flags, error) {
	var f Flags
	for _, w := range strings.Split(s, ",") {
		switch w {
		case "success":
			f |= OnSuccess
		case "failure":
			f |= OnFailure
		default:
			return 0, fmt.Errorf("%q is neither success nor failure", w)
		}
	}
	return f, nil
}
