package store

import (
	"hash/fnv"
	"strings"
	"unicode/utf8"

	"golang.org/x/text/cases"
	"golang.org/x/text/unicode/norm"
)

// Key gives what names are compared by: the Unicode normal form C, case folded
// in full. A name that is not UTF-8 is its own key.
func Key(name string) string {
	ascii := true
	for i := 0; i < len(name); i++ {
		if name[i] >= utf8.RuneSelf {
			ascii = false
			break
		}
	}
	if ascii {
		return strings.ToLower(name)
	}
	if !utf8.ValidString(name) {
		return name
	}
	return norm.NFC.String(cases.Fold().String(norm.NFC.String(name)))
}

// SameCase tells whether two names differ in case alone, each letter put
// together in the same way.
func SameCase(a, b string) bool {
	return cases.Fold().String(a) == cases.Fold().String(b)
}

// Fold gives a number of 32 bits that names with one Key share.
func Fold(name string) int64 {
	h := fnv.New32a()
	_, _ = h.Write([]byte(Key(name)))
	return int64(h.Sum32())
}
