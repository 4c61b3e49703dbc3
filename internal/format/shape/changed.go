package shape

import (
	"strconv"
	"strings"
)

// ChangedAs gives what grows with every change as a number: a number itself, or a
// time (RFC 4517 §3.3.13), in UTC, by its digits; 0 for anything else.
func ChangedAs(v string) int64 {
	digits, rest, _ := strings.Cut(strings.TrimSuffix(v, "Z"), ".")
	n, err := strconv.ParseInt(digits, 10, 64)
	if err != nil || n < 0 || strings.Trim(rest, "0123456789") != "" {
		return 0
	}
	return n
}

// AsChanged writes such a number as a filter has it for an attribute.
func AsChanged(attr string, n int64) string {
	s := strconv.FormatInt(n, 10)
	if strings.EqualFold(attr, "modifyTimestamp") || strings.EqualFold(attr, "whenChanged") {
		return s + ".0Z"
	}
	return s
}
