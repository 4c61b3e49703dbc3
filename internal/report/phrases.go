package report

import (
	"fmt"
	"strings"
	"time"
)

func isAre(n int) string {
	if n == 1 {
		return "1 is"
	}
	return fmt.Sprintf("%d are", n)
}

// LocalTime writes a moment of RFC 3339 as people here read it.
func LocalTime(at string) string {
	t, err := time.Parse(time.RFC3339, at)
	if err != nil {
		return at
	}
	return t.Local().Format("2006-01-02 15:04")
}

// Command writes arguments as they could be typed.
func Command(words []string) string {
	out := make([]string, len(words))
	for i, w := range words {
		if w == "" || strings.ContainsAny(w, " \t\n'\"$&|;<>()*?[]{}#~\\`!") {
			w = "'" + strings.ReplaceAll(w, "'", `'\''`) + "'"
		}
		out[i] = w
	}
	return strings.Join(out, " ")
}

// Alike names a place and how many others are just as it is.
func Alike(where string, items int64) string {
	if items > 1 {
		where += fmt.Sprintf(" and %d like it", items-1)
	}
	return where
}

// MostEdits is how many lines of edits a table has.
const MostEdits = 24
