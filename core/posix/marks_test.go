package posix

import (
	"testing"

	"github.com/stretchr/testify/require"

	"tarnwold/core/right"
	"tarnwold/core/rule"
)

// TestMarksTake: what each mark takes, of files and of folders.
func TestMarksTake(t *testing.T) {
	const changes = right.WriteData | right.AppendData | right.WriteNamedAttrs | right.WriteAttributes | right.DeleteChild | right.Delete | right.WriteACL | right.WriteOwner
	for _, x := range []struct {
		marks        Marks
		file, folder right.Set
	}{
		{0, 0, 0},
		{Immutable, changes, changes},
		{AppendOnly, changes &^ (right.AppendData | right.DeleteChild), changes &^ (right.AppendData | right.WriteData)},
		{MountReadOnly, changes, changes},
		{MountNoExec, right.Execute, 0},
		{Held, right.Delete, right.Delete},
		{Held | MountNoExec, right.Delete | right.Execute, right.Delete},
	} {
		require.Equal(t, x.file, x.marks.Never(false), "%v of a file", x.marks)
		require.Equal(t, x.folder, x.marks.Never(true), "%v of a folder", x.marks)
		for _, folder := range []bool{false, true} {
			r := &Rules{Folder: folder, Access: Of(0o777), Marks: x.marks}
			want := map[bool]right.Set{false: x.file, true: x.folder}[folder]
			b := r.Bounds(rule.Reading{})
			require.Equal(t, want, b.Never)
			require.Equal(t, want&right.Delete != 0, b.Kept)
			require.Equal(t, want, r.Bounds(rule.Reading{Into: true}).Never, "it counts for what comes into it too")
			require.Equal(t, want&^right.Execute, r.Bounds(rule.Reading{Served: rule.ServedLists}).Never)
			for i := range right.Count {
				one := right.At(i)
				require.Equal(t, want.Has(one), x.marks.Taking(one, folder) != 0)
			}
		}
	}
	require.Equal(t, []string{"append-only", "held-by-its-folder"}, (AppendOnly | Held).Names())
	require.Equal(t, Held|MountNoExec, (AppendOnly | MountNoExec | Held).Handed())
	require.Equal(t, MountReadOnly, MountReadOnly.Handed())
	up := &Rules{Folder: true, Access: Of(0o755), Marks: AppendOnly | MountNoExec}
	require.Equal(t, Held|MountNoExec, NewChild(up, false, up.Owner, up.Group, 0o644, 0o022).Marks)
	require.False(t, Marks(32).Known())
	require.True(t, (Held | Immutable).Known())
	r := &Rules{}
	require.Same(t, r, r.Marked(0))
	require.False(t, r.Same(r.Marked(Held)))
}
