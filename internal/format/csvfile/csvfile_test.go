package csvfile

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"tarnwold/internal/format"
)

func TestColumnsInAnyOrder(t *testing.T) {
	r, err := Open(strings.NewReader("\ufeffsddl,kind,path\r\n\"O:SYG:SYD:P(A;;FA;;;SY)\",folder,\r\nO:SYG:SYD:P(A;;FA;;;SY),file,\"a, \"\"b\"\"\"\r\n"), "x.csv", Tree)
	require.NoError(t, err)
	tree, err := r.ReadTree(nil)
	require.NoError(t, err)
	require.Len(t, tree.Bodies, 1)
	require.Equal(t, 2, tree.Len())
	require.Equal(t, format.TreeRow{Folder: true, Line: 2}, tree.Row(0))
	require.Equal(t, format.TreeRow{Path: `a, "b"`, Line: 3}, tree.Row(1))
}

func TestWrongSheetsSayWhere(t *testing.T) {
	for text, want := range map[string]string{
		"":                                          `x.csv: line 1: the header row "" is not that of`,
		"kind,name,sid,colour\n":                    "is not that of accounts (kind,name,sid,id; maybe purpose,primary,full_name,mail,department,title,manager,ends, and what else is known of users) or members (group,member; maybe until)",
		"kind,name,sid,id\nuser,a\n":                "x.csv: line 2",
		"kind,name,sid,id\nuser,\"a,,\n":            "x.csv: line",
		"kind,name,sid,id\nrobot,a,,\n":             "x.csv: line 2, column 1: \"robot\" is neither user nor group",
		"kind,name,sid,id\nuser,a,,x\n":             "x.csv: line 2, column 9: \"x\" is not a uid or gid",
		"kind,name,sid,id\nuser,\xff,,\n":           "x.csv: line 2, column 6: the text is not UTF-8",
		"kind,name,sid,id,purpose\nuser,a,,,role\n": "a user has no purpose",
		"group,member,until\ng,m,31.3.2027\n":       "line 2, column 5: \"31.3.2027\" is not a day",
		"kind,name,sid,id,primary\ngroup,g,,5,6\n":  "wanted the gid of a user's primary group",
	} {
		r, err := Open(strings.NewReader(text), "x.csv", Accounts, Members)
		if err == nil {
			if r.Kind == Accounts {
				_, err = r.ReadAccounts()
			} else {
				_, err = r.ReadMembers()
			}
		}
		require.ErrorContains(t, err, want, text)
		var fe *format.Error
		require.ErrorAs(t, err, &fe)
	}
}

// FuzzSheets: whatever stands in a file, reading ends with rows or an error.
func FuzzSheets(f *testing.F) {
	f.Add("kind,name,sid,id\nuser,a,S-1-5-21-1-2-3-4,5\n")
	f.Add("group,member,until\ng,m,2027-03-31\n")
	f.Add("share,folder,read_only,sddl\ns,/x,yes,D:(A;;FA;;;WD)\n")
	f.Add("path,kind,sddl\n,folder,O:SY\na/b,file,D:P\n")
	f.Add("user,where\na,//s/t\n")
	f.Fuzz(func(t *testing.T, text string) {
		r, err := Open(strings.NewReader(text), "f", Accounts, Members, Shares, Tree, Askings)
		if err != nil {
			return
		}
		switch r.Kind {
		case Accounts:
			_, _ = r.ReadAccounts()
		case Members:
			_, _ = r.ReadMembers()
		case Shares:
			_, _ = r.ReadShares()
		case Askings:
			_, _ = r.ReadAskings()
		case Tree:
			tree, err := r.ReadTree(nil)
			if err != nil {
				return
			}
			for i := range tree.Len() {
				row := tree.Row(i)
				require.Less(t, int(row.Body), len(tree.Bodies))
				require.NotContains(t, strings.Split(row.Path, "/"), "..")
			}
		}
	})
}
