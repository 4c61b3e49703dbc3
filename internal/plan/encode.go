package plan

import (
	"encoding/base64"
	"strings"
	"time"

	"tarnwold/core/rule"
	"tarnwold/internal/estate"
)

// Encoded writes rules of any kind: those of POSIX trees with a mark before.
func Encoded(a rule.Any) (string, error) {
	kind, b, err := estate.Encode(a)
	s := base64.StdEncoding.EncodeToString(b)
	switch kind {
	case estate.KindPOSIX:
		s = posixMark + s
	case estate.KindMarked:
		s = markedMark + s
	}
	return s, err
}

const posixMark, markedMark = "posix:", "marked:"

// Listed gives what rules that were read list.
func Listed(a rule.Any, err error) (*rule.Descriptor, error) {
	if err != nil {
		return nil, err
	}
	return a.Listed(), nil
}

// Decoded reads what Encoded wrote.
func Decoded(s string) (rule.Any, error) {
	kind := byte(estate.KindSecurity)
	if rest, ok := strings.CutPrefix(s, posixMark); ok {
		s, kind = rest, estate.KindPOSIX
	} else if rest, ok := strings.CutPrefix(s, markedMark); ok {
		s, kind = rest, estate.KindMarked
	}
	b, err := base64.StdEncoding.DecodeString(s)
	if err != nil {
		return nil, err
	}
	return estate.Decode(kind, b)
}

// After gives the first moment that is surely after one that was written down
// to the second.
func After(at string) time.Time {
	t, err := time.Parse(time.RFC3339, at)
	if err != nil {
		return time.Unix(1, 0) // whatever is there was changed after that
	}
	return t.Add(time.Second)
}
