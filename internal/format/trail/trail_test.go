package trail

import (
	"errors"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"tarnwold/internal/format"
)

func smb(t require.TestingT, text string, now time.Time) (out []Record, passed int) {
	passed, err := SMB(strings.NewReader(text), "f", now, func(r Record) error { out = append(out, r); return nil })
	require.NoError(t, err)
	return out, passed
}

// TestTheYearThatIsntTold: a line of syslog has no year; it is the last in
// which it isn't still to come.
func TestTheYearThatIsntTold(t *testing.T) {
	now := time.Date(2026, 1, 5, 12, 0, 0, 0, time.Local)
	for stamp, year := range map[string]int{"Jan  4 22:20:09": 2026, "Dec 31 23:00:00": 2025, "Jan  7 00:00:00": 2025, "Feb  1 00:00:00": 2025} {
		out, _ := smb(t, stamp+" stagedoor smbd_audit[8]: u|1|s|unlinkat|ok|/a\n", now)
		require.Equal(t, year, out[0].At.Year(), stamp)
	}
}

func TestWhatIsWanted(t *testing.T) {
	for line, want := range map[string]string{
		"create_file|ok|0x1|file|open|/a":                        "read /a granted",
		"create_file|ok|0x1|dir|open|/a":                         "list /a granted",
		"create_file|fail (x)|0x120116|file|open|/a|b":           "save /a|b failed",
		"create_file|fail (x)|0x2|dir|open|/a":                   "create /a failed",
		"create_file|ok|0x120089|file|open_if|/a":                "read /a granted",
		"create_file|ok|0x12019f|file|overwrite_if|/a":           "create /a granted",
		"create_file|ok|0x100|file|create|/a":                    "create /a granted",
		"create_file|ok|0x100|dir|create|/a":                     "make-folder /a granted",
		"create_file|ok|0x10080|file|open|/a":                    "delete /a granted",
		"create_file|ok|0x40000|file|open|/a":                    "change-rules /a granted",
		"create_file|ok|0x80000|file|open|/a":                    "take-owner /a granted",
		"create_file|ok|0x20000|file|open|/a":                    "read-rules /a granted",
		"create_file|fail (Permission denied)|0x1|file|open|/a/": "read /a refused",
		"create_file|ok|0x120080|file|open|/a":                   "",
		"create_file|ok|zz|file|open|/a":                         "",
		"create_file|ok|0x1|file|open|a":                         "",
		"create_file|what|0x1|file|open|/a":                      "",
		"create_file|ok|0x1":                                     "",
		"openat|ok|r|/a":                                         "",
		"connect|ok|s":                                           "",
		"connect|fail (x)|s":                                     "list  refused",
		"mkdirat|ok|/a b":                                        "make-folder /a b granted",
		"renameat|ok|/a|/b":                                      "rename /a granted",
	} {
		out, passed := smb(t, "2025-11-25T22:20:09Z h smbd_audit: u|1|s|"+line, time.Now())
		if want == "" {
			require.Empty(t, out, line)
			require.Equal(t, 1, passed)
			continue
		}
		require.Len(t, out, 1, line)
		require.Equal(t, want, out[0].Act+" "+out[0].Path+" "+out[0].Result.String(), line)
	}
}

// TestEventsMixed: records of two events that come between each other's are
// kept apart, by machine and by name.
func TestEventsMixed(t *testing.T) {
	var out []Record
	_, err := Linux(strings.NewReader(`type=SYSCALL msg=audit(1.000:1): arch=c000003e syscall=2 success=no exit=-13 a1=2 auid=7 uid=7
type=SYSCALL msg=audit(1.000:2): arch=40000003 syscall=5 success=no exit=EACCES SYSCALL=openat a2=0 auid=unset uid=8
type=PATH msg=audit(1.000:2): item=0 name="/b" nametype=NORMAL
type=PATH msg=audit(1.000:1): item=0 name="/a" nametype=NORMAL
type=SYSCALL msg=audit(1.000:3): arch=c000003e syscall=2 success=no exit=-13 auid=7
type=CWD msg=audit(1.000:3): cwd=2F
type=PATH msg=audit(1.000:3): item=0 name="rel" nametype=NORMAL
`), "f", func(r Record) error { out = append(out, r); return nil })
	require.NoError(t, err)
	require.Len(t, out, 3)
	require.Equal(t, []string{"uid:7", "save", "/a"}, []string{out[0].User, out[0].Act, out[0].Path})
	require.Equal(t, []string{"uid:8", "read", "/b"}, []string{out[1].User, out[1].Act, out[1].Path})
	require.Equal(t, "/rel", out[2].Path)
}

func FuzzTrail(f *testing.F) {
	f.Add("Nov 25 22:20:09 h smbd_audit[8]: u|1|s|create_file|fail (No data)|0x80000000|file|open|/srv/a")
	f.Add("[2026/11/25 22:20:09.224128,  1] x.c:643(do_log)\n  u|1|s|renameat|ok|/a|/b")
	f.Add("type=SYSCALL msg=audit(1364481363.243:24287): arch=c000003e syscall=2 success=no exit=-13 a0=7 a1=0 auid=1000\ntype=PATH msg=audit(1364481363.243:24287): item=0 name=2F61 nametype=NORMAL")
	f.Fuzz(func(t *testing.T, text string) {
		good := func(r Record) error {
			if r.Act == "" || r.User == "" && r.Share != "" || r.Raw == "" {
				return errors.New("a record without its parts")
			}
			return nil
		}
		for _, read := range []func() error{
			func() error { _, err := SMB(strings.NewReader(text), "f", time.Unix(1e9, 0), good); return err },
			func() error { _, err := Linux(strings.NewReader(text), "f", good); return err },
		} {
			var e *format.Error
			if err := read(); err != nil && !errors.As(err, &e) {
				t.Fatal(err)
			}
		}
	})
}
