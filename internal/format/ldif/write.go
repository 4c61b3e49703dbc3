package ldif

import (
	"encoding/base64"
	"fmt"
	"io"
	"strings"
)

// Write writes changes of entries (RFC 2849), each a Modify; a value that isn't a safe
// string stands in base64.
func Write(w io.Writer, list []Record) error {
	var b strings.Builder
	b.WriteString("version: 1\n")
	for _, r := range list {
		b.WriteString("\n")
		line(&b, "dn", r.DN)
		b.WriteString("changetype: modify\n")
		for _, p := range r.Parts {
			word, ok := map[Change]string{Add: "add", Delete: "delete", Modify: "replace"}[p.Do]
			if !ok {
				return fmt.Errorf("a part of a change neither adds, deletes nor replaces")
			}
			line(&b, word, p.Name)
			for _, v := range p.Values {
				line(&b, p.Name, v)
			}
			b.WriteString("-\n")
		}
	}
	_, err := io.WriteString(w, b.String())
	return err
}

func line(b *strings.Builder, name, value string) {
	if safe(value) {
		fmt.Fprintf(b, "%s: %s\n", name, value)
		return
	}
	fmt.Fprintf(b, "%s:: %s\n", name, base64.StdEncoding.EncodeToString([]byte(value)))
}

// safe tells whether a value is a SAFE-STRING that doesn't end in a space.
func safe(s string) bool {
	for i := range len(s) {
		c := s[i]
		if c == 0 || c == '\n' || c == '\r' || c > 127 || i == 0 && (c == ' ' || c == ':' || c == '<') {
			return false
		}
	}
	return !strings.HasSuffix(s, " ")
}
