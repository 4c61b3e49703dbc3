package right

import (
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

func anySet(t *rapid.T) Set { return Set(rapid.Uint32().Draw(t, "set")) }

func TestNamesAreTheStandards(t *testing.T) {
	// RFC 8881 §6.2.1.3.1, ACE4_ constants.
	for name, bit := range map[string]Set{
		"read-data": 0x1, "list-directory": 0x1, "write-data": 0x2, "add-file": 0x2, "append-data": 0x4,
		"add-subdirectory": 0x4, "read-named-attrs": 0x8, "write-named-attrs": 0x10, "execute": 0x20,
		"delete-child": 0x40, "read-attributes": 0x80, "write-attributes": 0x100, "delete": 0x10000,
		"read-acl": 0x20000, "write-acl": 0x40000, "write-owner": 0x80000, "synchronize": 0x100000,
	} {
		got, err := Parse(name)
		require.NoError(t, err)
		require.Equal(t, bit, got, name)
	}
	require.Equal(t, Set(0x1f01ff), All)
	_, err := Parse("raed-data")
	var ne *NameError
	require.ErrorAs(t, err, &ne)
}

func TestGenericBitsMap(t *testing.T) {
	require.Equal(t, Set(0x120089), GenericRead.Map())
	require.Equal(t, Set(0x120116), GenericWrite.Map())
	require.Equal(t, Set(0x1200a0), GenericExecute.Map())
	require.Equal(t, All, GenericAll.Map())
}

func TestLevelsAreNested(t *testing.T) {
	ls := Builtin()
	at := func(n string) Level { l, ok := ls.Lookup(n); require.True(t, ok); return l }
	for _, p := range [][2]string{{"pass", "read"}, {"list", "read"}, {"read", "add"}, {"drop", "add"}, {"add", "revise"}, {"revise", "edit"}, {"edit", "full"}} {
		require.True(t, at(p[1]).Folder.Has(at(p[0]).Folder), p)
		require.True(t, at(p[1]).File.Has(at(p[0]).File), p)
	}
	require.Equal(t, Set(0x1200a9), at("read").File)
	require.Equal(t, Set(0x1301bf), at("edit").File)
	require.Zero(t, at("edit").File&DeleteChild)
	require.Zero(t, at("revise").File&Delete)
	require.Zero(t, at("drop").Folder&ReadData)
}

func TestWrittenRightsReadBack(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		s := anySet(t)
		p := rapid.SampledFrom([]Part{OnFolder, OnFile, OnBoth}).Draw(t, "part")
		ls := Builtin().With(Level{Name: "proof", Folder: ReadData | WriteACL, File: ReadData})
		w, err := ls.Parse(ls.Write(s, p))
		if s == 0 {
			require.Error(t, err)
			return
		}
		require.NoError(t, err)
		switch p {
		case OnFolder:
			require.Equal(t, s, w.Folder)
		case OnFile:
			require.Equal(t, s, w.File)
		default:
			require.Equal(t, What{s, s}, w)
		}
	})
}

func TestFoldLosesNothing(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		s := anySet(t) & All
		l, over, ok := Builtin().Fold(s, OnFolder, Access)
		if !ok {
			require.Equal(t, s&Access, over)
			return
		}
		require.Equal(t, s&Access, (l.Folder&Access)|over)
		for _, other := range Builtin() {
			if s.Has(other.Folder & Access) {
				require.LessOrEqual(t, (other.Folder & Access).Len(), (l.Folder & Access).Len(), "%s is stronger than %s", other.Name, l.Name)
			}
		}
	})
	require.Equal(t, "read + write-attributes", Builtin().Show(0x1200a9|WriteAttributes, false))
	require.Equal(t, "nothing", Builtin().Show(Synchronize, false))
	require.Equal(t, "read", Builtin().Show(0x200a9, true))
}
