package changes

import (
	"bytes"
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"tarnwold/internal/estate"
	"tarnwold/internal/report/doc"
)

// TestALongLog: a table stops where a person stops reading, and says what is left; all of it
// comes where that is said, and for programs.
func TestALongLog(t *testing.T) {
	var list []estate.Change
	for i := mostLog + 5; i > 0; i-- {
		list = append(list, estate.Change{ID: int64(i), At: "2026-11-30T12:00:00Z", Actor: "warden", Summary: fmt.Sprint("change number ", i)})
	}
	lines := func(format doc.Format, all bool, list []estate.Change) []string {
		var out bytes.Buffer
		require.NoError(t, Log(&doc.Printer{W: &out, Format: format}, list, all))
		return strings.Split(strings.TrimSpace(out.String()), "\n")
	}
	short := lines(doc.Table, false, list)
	require.Len(t, short, 1+mostLog+1)
	require.Contains(t, short[mostLog], "change number 6")
	require.Equal(t, "and 5 changes before these; --all lists them, --since DAY those from a day on", short[mostLog+1])
	require.Len(t, lines(doc.Table, true, list), 1+mostLog+5)
	require.Len(t, lines(doc.CSV, false, list), 1+mostLog+5)
	require.Len(t, lines(doc.Table, false, list[5:]), 1+mostLog, "just as many as it has")
}
