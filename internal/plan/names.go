package plan

import (
	"fmt"
	"strings"
	"time"

	acc "tarnwold/core/account"
	"tarnwold/core/posix/acltext"
	"tarnwold/internal/estate"
	"tarnwold/internal/store"
)

func NameKey(name string, kind acc.Kind) string { return kind.String() + ":" + store.Key(name) }

// Posixers finds the accounts that the rows of a POSIX tree name, by name or by
// number; numbers that no account has are kept.
func Posixers(t *estate.Tx) acltext.Names {
	find := func(kind acc.Kind, id func(uint32) ID, number func(string) (ID, error)) func(string) (ID, error) {
		known := map[string]ID{}
		return func(name string) (ID, error) {
			if got, ok := known[name]; ok {
				return got, nil
			}
			got, err := number(name)
			if err != nil {
				a, err := t.Named(name, kind)
				switch {
				case err != nil:
					return got, err
				case a.POSIX == acc.NoPOSIX:
					return got, &estate.Refused{Why: fmt.Sprintf("%s %s has no number", kind, name), Do: "name it by its number"}
				}
				got = id(uint32(a.POSIX))
			}
			known[strings.Clone(name)] = got
			return got, nil
		}
	}
	return acltext.Names{User: find(acc.User, acc.UID, acltext.Numbers.User), Group: find(acc.Group, acc.GID, acltext.Numbers.Group)}
}

func SameKey(a, b string) bool { return store.Key(a) == store.Key(b) }

func Moment(at int64) string { return time.Unix(at, 0).UTC().Format(time.RFC3339) }
