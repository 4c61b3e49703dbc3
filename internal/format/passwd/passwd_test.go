package passwd

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

func TestFiles(t *testing.T) {
	us, err := Users(strings.NewReader("# comment\n\nada:x:6000:7000:Ada, Q:/home:/bin/sh\n"), "p")
	require.NoError(t, err)
	require.Equal(t, int64(7000), us[0].PrimaryGID)
	require.Equal(t, 3, us[0].Line)
	gs, ms, err := Groups(strings.NewReader("crew:x:7000:ada,ben\nempty:x:1:\n"), "g")
	require.NoError(t, err)
	require.Len(t, gs, 2)
	require.Equal(t, 2, ms.Len())
	_, err = Users(strings.NewReader("ada:x:6000\n"), "p")
	require.EqualError(t, err, "p: line 1: 3 fields, wanted 7: name:password:uid:gid:comment:home:shell")
	_, _, err = Groups(strings.NewReader("crew:x:7000:ada,,ben\n"), "g")
	require.EqualError(t, err, "g: line 1, column 13: a member's name is empty")
	_, _, err = Groups(strings.NewReader(":x:1:\n"), "g")
	require.EqualError(t, err, "g: line 1, column 1: the name is empty")
}

func FuzzFiles(f *testing.F) {
	f.Add("ada:x:6000:7000:Ada:/home:/bin/sh\n")
	f.Add("crew:x:7000:ada,ben\n")
	f.Fuzz(func(t *testing.T, text string) {
		us, err := Users(strings.NewReader(text), "p")
		for _, u := range us {
			require.NotEmpty(t, u.Name)
		}
		if err != nil {
			require.Contains(t, err.Error(), "p: line ")
		}
		if _, ms, err := Groups(strings.NewReader(text), "g"); err == nil {
			for _, m := range ms.All() {
				require.NotEqual(t, "user:", m.Member)
			}
		}
	})
}
