package exports

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

func TestRead(t *testing.T) {
	got, err := Read(strings.NewReader(`# the props
/srv/props   desk1(rw) desk2(rw,root_squash) *.quill.example(ro,all_squash,anonuid=6003,anongid=7001)
"/srv/old props" -rw,no_root_squash 10.0.0.0/8 \
   10.1.0.0/16(ro)
/srv/by\040night
/ backup(no_root_squash,no_all_squash,sync) # whole
`), "exports")
	require.NoError(t, err)
	require.Equal(t, []Export{
		{"/srv/props", 2, []string{"desk1", "desk2"}, false, "root", 65534, 65534},
		{"/srv/props", 2, []string{"*.quill.example"}, true, "all", 6003, 7001},
		{"/srv/old props", 3, []string{"10.0.0.0/8"}, false, "none", 65534, 65534},
		{"/srv/old props", 3, []string{"10.1.0.0/16"}, true, "none", 65534, 65534},
		{"/srv/by night", 5, []string{"*"}, true, "root", 65534, 65534},
		{"/", 6, []string{"backup"}, true, "none", 65534, 65534},
	}, got)
	require.Equal(t, "srv-props", got[0].Name())
	require.Equal(t, "root", got[5].Name())
	for text, says := range map[string]string{
		"srv/props *(rw)": "line 1: \"srv/props\" is not a whole path", "\n/srv *(rw": "line 2: \"*(rw\": the parenthesis isn't closed",
		"/srv *(anonuid=x)": "anonuid=x is not a number", `"/srv`: "a quote isn't closed", "/srv \\": "ends within a line", `/a\9zz *`: "three octal digits", "/srv \xff": "not UTF-8",
	} {
		_, err := Read(strings.NewReader(text), "exports")
		require.ErrorContains(t, err, says, text)
	}
}

func FuzzRead(f *testing.F) {
	for _, s := range []string{"/a b(rw)", `"/a b" -ro *(rw) c`, "/a\\040b \\\n c(all_squash,anonuid=3)", "# x"} {
		f.Add(s)
	}
	f.Fuzz(func(t *testing.T, s string) {
		got, err := Read(strings.NewReader(s), "f")
		if err != nil {
			return
		}
		for _, e := range got {
			require.True(t, strings.HasPrefix(e.Path, "/"))
			require.NotEmpty(t, e.Hosts)
			require.NotEmpty(t, e.Name())
			require.Contains(t, []string{"root", "all", "none"}, e.Squash)
		}
	})
}
