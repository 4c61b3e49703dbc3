package cli_test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"tarnwold/internal/cli/asks"
	"tarnwold/internal/cli/run"
	"tarnwold/internal/report"
)

// TestCommandsReadBack: a command as it is written can be typed, or put into a
// file of questions, and means the same words.
func TestCommandsReadBack(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		words := rapid.SliceOfN(rapid.StringOfN(rapid.RuneFrom([]rune(`ab "'\$*?//ä;|#~`)), 0, 8, -1), 1, 5).Draw(t, "words")
		got, err := run.SplitWords(report.Command(words))
		require.NoError(t, err, report.Command(words))
		require.Equal(t, words, got, report.Command(words))
	})
}

// FuzzQuestions: whatever a file of questions holds, reading it ends.
func FuzzQuestions(f *testing.F) {
	f.Add("who //a/b\n# x\n\nexplain 'a b' c --if \"x joins y\"\n")
	f.Add("a\\ b 'c\"d' \"e\\\"f\"")
	f.Fuzz(func(t *testing.T, text string) {
		list, err := asks.ReadQuestions(strings.NewReader(text), "f")
		if err != nil {
			return
		}
		for _, q := range list {
			require.NotEmpty(t, strings.TrimSpace(q.Text))
			words, err := run.SplitWords(q.Text)
			if err == nil {
				require.NotEmpty(t, words)
			}
		}
	})
}
