package verdict

import (
	"slices"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"tarnwold/core/account"
	"tarnwold/core/right"
	"tarnwold/core/rule"
	"tarnwold/internal/proptest"
)

// TestActsNeedWhatWasMeasured: each act against the words of what was
// measured, worked out right by right.
func TestActsNeedWhatWasMeasured(t *testing.T) {
	seen, beyond := map[string][2]int{}, 0
	rapid.Check(t, func(t *rapid.T) {
		item := anyQuestion(t)
		folderRules := anyDescriptor(t)
		if rapid.Bool().Draw(t, "kind folder") {
			folderRules = &rule.Descriptor{Owner: alice, Rules: rule.Rules{Entries: []rule.Entry{{Rights: right.All, Who: crew}}}}
		}
		isFolder := rapid.Bool().Draw(t, "folder")
		q := item.Question
		if rapid.IntRange(0, 3).Draw(t, "share stops adding") == 0 {
			q.Share = &Share{Rules: rule.Compile(&rule.Descriptor{Rules: rule.Rules{Entries: []rule.Entry{{Rights: right.All &^ right.AppendData, Who: account.Everyone}}}}, q.Traits.ShareReading())}
		}
		item.item = item.item.Marked(rule.Mark(rapid.IntRange(0, 1).Draw(t, "mark")))
		q.Item = rule.Compile(item.item, q.Traits.Reading())
		adding := q
		adding.Item = rule.Compile(folderRules, q.Traits.AddReading())
		marked := rule.Compile(folderRules.Marked(rule.ReadOnly), q.Traits.AddReading())
		require.Equal(t, adding.Item, marked, "a folder's mark is no matter to what comes into it")
		there := q
		there.Item = rule.Compile(folderRules, q.Traits.Reading())
		posixTree := rapid.Bool().Draw(t, "POSIX tree")
		to := rapid.SampledFrom([]account.ID{alice, bob, crew, builtinAdministrators}).Draw(t, "to")
		restores := slices.ContainsFunc(q.Traits.Held().Held()[Restore], q.Token.Has)
		var kernel, names *Question
		kept := false
		if posixTree && rapid.Bool().Draw(t, "served over SMB") {
			alone, shown := q, q
			alone.Share, shown.Share = nil, nil
			alone.Item, shown.Item = rule.Compile(anyDescriptor(t), rule.Reading{}), rule.Compile(anyDescriptor(t), rule.Reading{})
			alone.Parent, shown.Parent = nil, nil
			kernel, names = &alone, &shown
			if kept = rapid.Bool().Draw(t, "kept"); kept {
				tr := *q.Traits
				tr.served = rule.ServedKept
				q.Traits = &tr
			}
		}
		for i := range Acts {
			a := &Acts[i]
			trial := Trial{Item: &q, Folder: &adding, Target: &adding, There: &there, Posix: posixTree, IsFolder: isFolder, To: to, Kernel: kernel, Names: names}
			if a.Takes == NewFile || a.Takes == NewFolder {
				trial.Item = nil
				trial.IsFolder = a.Takes == NewFolder
			}
			has := func(r right.Set) bool { return Granted(&q)&r == r }
			door, share := q.Connect()
			rw := !door.Refused && !door.ReadOnly
			add := right.WriteData
			if trial.IsFolder {
				add = right.AppendData
			}
			adds := Granted(&adding)&add != 0
			past := adding // the share's rules limit what is made, not what is renamed or moved
			past.Share = nil
			puts := Granted(&past)&add != 0
			if has(right.Delete) && rw && puts && !adds {
				beyond++
			}
			boss := q.Administrator && q.Traits.AdministratorsPass
			owns := kernel == nil || kept || Granted(kernel).Has(right.WriteACL)
			stays := q.Traits.RootPasses && q.Share == nil && item.item.Owner == to && q.Token.Has(to)
			var want bool
			switch a.Name {
			case "list", "read":
				want = has(right.ReadData)
			case "write":
				want = has(right.WriteData)
			case "append":
				want = has(right.AppendData)
			case "save":
				want = has(right.WriteData) && has(right.AppendData)
			case "open-read":
				want = has(0x120089)
			case "open-write":
				want = has(0x120116)
			case "open-sync":
				want = has(right.ReadData) && has(right.Synchronize)
			case "overwrite", "supersede":
				want = has(right.WriteData) && share&right.ReadAttributes != 0
			case "create":
				want = adds && rw && share&0x12019f == 0x12019f
			case "make-folder":
				want = adds && rw && share&0x100081 == 0x100081
			case "rename", "move", "replace":
				want = has(right.Delete) && puts && rw
				if a.Name == "move" && posixTree && isFolder {
					want = want && has(right.WriteNamedAttrs)
				}
				if a.Name == "replace" && q.Traits.AsSpecified {
					want = want && Granted(&there).Has(right.Delete)
				}
				if a.Name == "replace" && posixTree {
					want = want && Granted(&there).Has(right.Delete)
				}
				if kernel != nil {
					want = want && Granted(kernel).Has(right.Delete) && Granted(names).Has(right.ReadData)
				}
			case "rename-by-attributes":
				want = has(right.WriteAttributes) && puts && rw && (!q.Traits.AsSpecified || has(right.Delete))
				if kernel != nil {
					want = want && Granted(kernel).Has(right.Delete) && Granted(names).Has(right.ReadData)
				}
			case "delete":
				want = has(right.Delete) && rw && item.item.Mark == 0 && (kernel == nil || kept || Granted(kernel).Has(right.Delete))
			case "set-attributes":
				want = has(right.WriteAttributes)
			case "read-rules":
				want = has(right.ReadACL)
			case "change-rules":
				want = has(right.WriteACL) && rw && owns
			case "take-owner":
				want = has(right.WriteOwner) && rw && owns
			case "give-owner":
				want = (boss || to == alice || to == item.item.Owner || q.Traits.AsSpecified && (to == builtinAdministrators && q.Token.Has(to) || restores)) && (stays || has(right.WriteOwner)) && rw && owns
			default:
				t.Fatalf("%s is not known here", a.Name)
			}
			got := Try(a, &trial)
			require.Equal(t, want, got.Allowed, a.Name)
			all := true
			for _, c := range got.Checks[:got.N] {
				all = all && c.OK
				require.Zero(t, c.Missing&^c.Rights)
			}
			require.Equal(t, got.Allowed, all)
			needs := 0
			for _, n := range a.Needs {
				if !(n.Staying && stays) && (n.On != OnMark || item.item.Mark != 0) && (!n.Posix || posixTree) && (!n.Specified || q.Traits.AsSpecified) && (!n.Folders || trial.IsFolder) && (n.On != OnKernel && n.On != OnNames || kernel != nil && !(n.NotKept && kept)) {
					needs++
				}
			}
			require.Equal(t, needs, got.N)
			n := seen[a.Name]
			if want {
				n[0]++
			} else {
				n[1]++
			}
			seen[a.Name] = n
		}
	})
	require.Len(t, seen, len(Acts))
	proptest.Reached(t, beyond, 0, "a share that stops adding and not renaming")
	for name, n := range seen {
		proptest.Reached(t, n[0], 0, name+" done")
		proptest.Reached(t, n[1], 0, name+" refused")
	}
}

// TestAddingCountsNoOwner: what owning a folder gives its owner's entries
// doesn't help to add to it, where the server was measured so.
func TestAddingCountsNoOwner(t *testing.T) {
	d := &rule.Descriptor{Owner: alice, Rules: rule.Rules{Entries: []rule.Entry{{Rights: right.All, Who: account.OwnerRights}}}}
	for _, name := range TraitNames() {
		tr, err := NamedTraits(name)
		require.NoError(t, err)
		q := &Question{Token: token(), Traits: &tr, Item: rule.Compile(d, tr.AddReading())}
		a, ok := ActNamed("create")
		require.True(t, ok)
		require.Equal(t, !tr.AddingIgnoresOwner, Try(a, &Trial{Folder: q}).Allowed, name)
	}
}

func trial() (*Act, *Trial) {
	q := bench()
	a, _ := ActNamed("rename")
	return a, &Trial{Item: q, Folder: q}
}

func TestTryAllocatesNothing(t *testing.T) {
	a, x := trial()
	require.Zero(t, testing.AllocsPerRun(100, func() { Try(a, x) }))
}

// BenchmarkTry is an act with three needs; a decision without reasons is the
// least work it can be.
func BenchmarkTry(b *testing.B) {
	a, x := trial()
	b.Run("try", func(b *testing.B) {
		for b.Loop() {
			if Try(a, x).Allowed {
				sink++
			}
		}
	})
	b.Run("decision", func(b *testing.B) {
		for b.Loop() {
			sink |= Granted(x.Item)
		}
	})
}
