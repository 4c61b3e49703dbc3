package changes

import (
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// TestMetrics: names of servers and sections are labels whatever is in them, and what is
// said of a night is what it holds.
func TestMetrics(t *testing.T) {
	n := &Night{}
	s := n.Section("scans", "The servers")
	s.Add("a", "a", "it doesn't answer", true)
	s.Add("b", "b", "changed", false)
	text := string(n.Metrics(&Measured{Ended: time.Unix(1796048555, 0), Took: 1500 * time.Millisecond, Failed: 2, Kinds: map[string]int{"stale": 3, "empty-group": 0},
		Scans: map[string]time.Time{"box": time.Unix(1796000000, 0), "odd\"\\\n}name": {}}}))
	for _, want := range []string{"tarnwold_night_end_timestamp_seconds 1796048555", "tarnwold_night_duration_seconds 1.500", `tarnwold_to_look_at{section="scans"} 2`, `tarnwold_not_done{section="scans"} 1`,
		`tarnwold_findings{kind="stale"} 3`, `tarnwold_findings{kind="empty-group"} 0`, "tarnwold_expectations_failing 2", `tarnwold_server_scan_timestamp_seconds{server="box"} 1796000000`,
		`tarnwold_server_scan_timestamp_seconds{server="odd\"\\\n}name"} 0`} {
		require.Contains(t, strings.Split(text, "\n"), want)
	}
	require.True(t, strings.HasSuffix(text, "\n# EOF\n"))
	seen := map[string]bool{} // each family is told of once, before its samples
	for line := range strings.Lines(text) {
		if name, ok := strings.CutPrefix(line, "# TYPE "); ok {
			name, _, _ = strings.Cut(name, " ")
			require.False(t, seen[name])
			seen[name] = true
		} else if !strings.HasPrefix(line, "#") {
			name, _, _ := strings.Cut(strings.TrimSpace(line), " ")
			name, _, _ = strings.Cut(name, "{")
			require.True(t, seen[name], line)
		}
	}
	require.NotContains(t, string((&Night{}).Metrics(&Measured{})), "server_scan", "no family without a sample")
}
