package report

import (
	"fmt"
	"strings"
)

// markWords says of the marks of items of POSIX trees what they do, and what would have to
// change on the machine.
var markWords = map[string]struct{ is, why, mend string }{
	"immutable":          {"it is immutable: nobody changes it, not even root", "it is immutable", "the immutable attribute would have to come off %s (chattr -i)"},
	"append-only":        {"it is append-only: it is only added to, by root too", "it is append-only", "the append-only attribute would have to come off %s (chattr -a)"},
	"mounted-read-only":  {"its file system is mounted read-only: nobody changes anything", "its file system is mounted read-only", "the file system of %s would have to be mounted for writing"},
	"mounted-noexec":     {"its file system is mounted noexec: no program is run from it", "its file system is mounted noexec", "the file system of %s would have to be mounted without noexec"},
	"held-by-its-folder": {"the folder above is immutable or append-only: it isn't renamed or deleted", "the folder above is immutable or append-only", "the attribute would have to come off the folder above %s (chattr -i, -a)"},
}

// markWhy says why a mark refuses; names are the marks that do, empty: the read-only mark.
func markWhy(names string) string {
	name, _, _ := strings.Cut(names, ",")
	if w, ok := markWords[name]; ok {
		return w.why
	}
	return "it is marked read-only"
}

// MarkMend says what would have to change of the first of some marks; names are as in markWhy.
func MarkMend(names, where string) string {
	name, _, _ := strings.Cut(names, ",")
	if w, ok := markWords[name]; ok {
		return fmt.Sprintf(w.mend, where)
	}
	return fmt.Sprintf("the read-only mark would have to come off %s", where)
}
