package changes

import (
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"
)

// Measured is what of a night is for those who watch many machines at once.
type Measured struct {
	Ended  time.Time
	Took   time.Duration
	Kinds  map[string]int       // findings by kind; all kinds there are
	Scans  map[string]time.Time // when each real server was read last; zero: never
	Failed int                  // expectations that don't hold
}

// Metrics writes a night as OpenMetrics text, for a collector that reads files.
func (n *Night) Metrics(m *Measured) []byte {
	var b strings.Builder
	family := func(name, unit, help string) {
		fmt.Fprintf(&b, "# TYPE %s gauge\n", name)
		if unit != "" {
			fmt.Fprintf(&b, "# UNIT %s %s\n", name, unit)
		}
		fmt.Fprintf(&b, "# HELP %s %s\n", name, help)
	}
	of := func(name, label, value string, n float64) {
		if label != "" {
			name += "{" + label + `="` + strings.NewReplacer(`\`, `\\`, `"`, `\"`, "\n", `\n`).Replace(value) + `"}`
		}
		fmt.Fprintf(&b, "%s %s\n", name, strings.TrimSuffix(fmt.Sprintf("%.3f", n), ".000"))
	}
	family("tarnwold_night_end_timestamp_seconds", "seconds", "When the last night's look ended.")
	of("tarnwold_night_end_timestamp_seconds", "", "", float64(m.Ended.Unix()))
	family("tarnwold_night_duration_seconds", "seconds", "How long it took.")
	of("tarnwold_night_duration_seconds", "", "", m.Took.Seconds())
	family("tarnwold_to_look_at", "", "Things to look at, by section of the page.")
	for _, s := range n.Sections {
		of("tarnwold_to_look_at", "section", s.Name, float64(len(s.Items)))
	}
	family("tarnwold_not_done", "", "Things that could not be done, by section of the page.")
	for _, s := range n.Sections {
		bad := 0
		for i := range s.Items {
			if s.Items[i].Trouble {
				bad++
			}
		}
		of("tarnwold_not_done", "section", s.Name, float64(bad))
	}
	family("tarnwold_findings", "", "Findings by kind, those meant so left out.")
	for _, kind := range slices.Sorted(maps.Keys(m.Kinds)) {
		of("tarnwold_findings", "kind", kind, float64(m.Kinds[kind]))
	}
	family("tarnwold_expectations_failing", "", "Expectations that don't hold.")
	of("tarnwold_expectations_failing", "", "", float64(m.Failed))
	if len(m.Scans) > 0 {
		family("tarnwold_server_scan_timestamp_seconds", "seconds", "When each real server was read last; 0: never.")
	}
	for _, name := range slices.Sorted(maps.Keys(m.Scans)) {
		at := 0.0
		if t := m.Scans[name]; !t.IsZero() {
			at = float64(t.Unix())
		}
		of("tarnwold_server_scan_timestamp_seconds", "server", name, at)
	}
	b.WriteString("# EOF\n")
	return []byte(b.String())
}
