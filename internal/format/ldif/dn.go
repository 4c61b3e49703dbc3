package ldif

import (
	"encoding/hex"
	"errors"
	"slices"
	"strings"
	"unicode/utf8"

	"golang.org/x/text/cases"
	"golang.org/x/text/unicode/norm"
)

// Key gives a distinguished name (RFC 4514) in a form that is the same for the
// same name however it is written: types and values in folded case, escapes
// undone, spaces around and doubled ones taken away (RFC 4518 §2.6), parts of one
// level in order.
func Key(dn string) (string, error) {
	if key, ok := plain(dn); ok {
		return key, nil
	}
	parts, err := Split(dn)
	if err != nil {
		return "", err
	}
	return Join(parts), nil
}

// AppendKey appends Key to b, so that looking for many names takes no memory.
func AppendKey(b []byte, dn string) ([]byte, error) {
	if isPlain(dn) {
		for i := range len(dn) {
			c := dn[i]
			if c >= 'A' && c <= 'Z' {
				c += 'a' - 'A'
			}
			b = append(b, c)
		}
		return b, nil
	}
	key, err := Key(dn)
	return append(b, key...), err
}

// plain is Key for names without anything odd in them, which nearly all are.
func plain(dn string) (string, bool) {
	if !isPlain(dn) {
		return "", false
	}
	return strings.ToLower(dn), true
}

// typeByte tells whether a type in lower case may hold a byte; some directories
// have underscores in theirs.
func typeByte(c byte) bool {
	return c >= 'a' && c <= 'z' || c >= '0' && c <= '9' || c == '-' || c == '.' || c == '_'
}

func isPlain(dn string) bool {
	level, value := 0, false // where the level began; whether its = was met
	for i := range len(dn) {
		switch c := dn[i]; {
		case c < ' ' || c >= 0x7f, c == '\\', c == '"', c == '+', c == '#', c == ';', c == '<', c == '>':
			return false
		case !value && c != '=' && c != ',' && !typeByte(c|0x20) && !typeByte(c):
			return false
		case c == ' ' && (!value || i == 0 || i == len(dn)-1 || dn[i-1] == ' ' || dn[i-1] == ',' || dn[i-1] == '=' || dn[i+1] == ',' || dn[i+1] == '='):
			return false
		case c == '=':
			if value || i == level {
				return false
			}
			value = true
		case c == ',':
			if !value {
				return false
			}
			level, value = i+1, false
		}
	}
	return dn == "" || value
}

// Join writes the levels of a name that Split gave.
func Join(levels []string) string { return strings.Join(levels, ",") }

var errDN = errors.New("it is not a distinguished name")

// Split gives the levels of a name, each in the form of Key, the nearest first.
func Split(dn string) (levels []string, err error) {
	if strings.TrimSpace(dn) == "" {
		return nil, nil
	}
	var level []string // the parts of one level, TYPE=value
	i := 0
	for {
		for i < len(dn) && dn[i] == ' ' {
			i++
		}
		eq := strings.IndexByte(dn[i:], '=')
		if eq <= 0 {
			return nil, errDN
		}
		typ := strings.ToLower(strings.TrimRight(dn[i:i+eq], " "))
		for _, c := range []byte(typ) {
			if !typeByte(c) {
				return nil, errDN
			}
		}
		if typ == "" {
			return nil, errDN
		}
		v, n, err := valueAt(dn[i+eq+1:])
		if err != nil {
			return nil, err
		}
		i += eq + 1 + n
		level = append(level, typ+"="+v)
		end := i == len(dn)
		if end || dn[i] == ',' || dn[i] == ';' {
			slices.Sort(level)
			levels = append(levels, strings.Join(level, "+"))
			level = nil
			if end {
				return levels, nil
			}
		} else if dn[i] != '+' {
			return nil, errDN
		}
		i++
		if i == len(dn) {
			return nil, errDN
		}
	}
}

// valueAt reads a value up to what ends it, and tells how long it is there.
func valueAt(s string) (string, int, error) {
	i := 0
	for i < len(s) && s[i] == ' ' {
		i++
	}
	var b []byte
	if i < len(s) && s[i] == '#' { // BER in hexadecimal
		end := i + 1
		for end < len(s) && !strings.ContainsRune(",;+ ", rune(s[end])) {
			end++
		}
		if _, err := hex.DecodeString(s[i+1 : end]); err != nil || end == i+1 {
			return "", 0, errDN
		}
		v := strings.ToLower(s[i:end])
		for end < len(s) && s[end] == ' ' {
			end++
		}
		return v, end, nil
	}
	if i < len(s) && s[i] == '"' { // as older names quote it (RFC 2253 §4)
		for i++; ; i++ {
			switch {
			case i == len(s):
				return "", 0, errDN
			case s[i] == '\\' && i+1 < len(s):
				i++
				b = append(b, s[i])
				continue
			case s[i] != '"':
				b = append(b, s[i])
				continue
			}
			break
		}
		for i++; i < len(s) && s[i] == ' '; i++ {
		}
		return folded(b), i, nil
	}
	last := 0 // behind the last byte that isn't a space by itself
	for ; i < len(s); i++ {
		switch c := s[i]; c {
		case ',', ';', '+':
			return folded(b[:last]), i, nil
		case '\\':
			if i+2 < len(s) {
				if x, err := hex.DecodeString(s[i+1 : i+3]); err == nil {
					b = append(b, x[0])
					last = len(b)
					i += 2
					continue
				}
			}
			if i+1 == len(s) {
				return "", 0, errDN
			}
			i++
			b = append(b, s[i])
			last = len(b)
		default:
			b = append(b, c)
			if c != ' ' {
				last = len(b)
			}
		}
	}
	return folded(b[:last]), i, nil
}

// folded gives a value as it is compared; what would part levels is escaped
// again, so that no two names have one key.
func folded(b []byte) string {
	s := string(b)
	if utf8.ValidString(s) {
		s = cases.Fold().String(norm.NFKC.String(s))
	}
	if strings.Contains(s, "  ") {
		s = strings.Join(strings.Fields(s), " ")
	}
	return escape.Replace(strings.Trim(s, " "))
}

var escape = strings.NewReplacer(`\`, `\\`, ",", `\2c`, "+", `\2b`, "=", `\3d`, "#", `\23`, ";", `\3b`, `"`, `\22`, "<", `\3c`, ">", `\3e`)

// First gives the value of a name's first part, as it is written, for people.
func First(dn string) string {
	_, v, ok := strings.Cut(dn, "=")
	if !ok {
		return dn
	}
	for i := 0; i < len(v); i++ {
		switch v[i] {
		case '\\':
			i++
		case ',', '+', ';':
			return v[:i]
		}
	}
	return v
}
