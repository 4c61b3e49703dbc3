package posix

import (
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"tarnwold/core/account"
)

// TestPassingOpensNothing: whatever an item passes through on its way from some
// rules to others, nobody has by it what neither gives: no permission, no
// renaming of somebody else's item, no program that runs as another, nothing of
// what is made in it meanwhile. Each step is one part, and known as a step.
func TestPassingOpensNothing(t *testing.T) {
	everyone := everybody()
	met := map[string]int{}
	rapid.Check(t, func(t *rapid.T) {
		from, to := drawRules(t), drawRules(t)
		if rapid.Bool().Draw(t, "open lists") { // lists by which even those have something who have the least
			for _, r := range []*Rules{from, to} {
				least := rapid.SampledFrom([]Perm{R, W, X, R | X, W | X}).Draw(t, "least")
				r.Access = Of(uint16(least|rapid.SampledFrom([]Perm{0, R, W, X}).Draw(t, "more"))<<6 | uint16(least)<<3 | uint16(least))
			}
		}
		to.Folder = from.Folder
		if !to.Folder {
			to.Default = nil
		} else if rapid.Bool().Draw(t, "default") {
			to.Default = drawList(t)
		}
		for _, same := range []struct {
			what string
			set  func()
		}{{"owner", func() { to.Owner, to.Group = from.Owner, from.Group }}, {"list", func() { to.Access = from.Access }}, {"special", func() { to.Special = from.Special }}, {"default list", func() { to.Default = from.Default }}} {
			if rapid.IntRange(0, 3).Draw(t, "same "+same.what) == 0 {
				same.set()
			}
		}
		item := &Rules{Owner: rapid.SampledFrom(users).Draw(t, "item's owner")}
		maker := rapid.SampledFrom(everyone).Draw(t, "maker")
		var makes account.ID
		for _, u := range users {
			if maker[u] {
				makes = u
			}
		}
		first := rapid.SampledFrom(groups).Draw(t, "first group")
		umask := rapid.SampledFrom([]uint16{0o022, 0o077, 0o002}).Draw(t, "umask")
		steps := from.Passing(to)
		if len(steps) > 0 {
			require.True(t, steps[len(steps)-1].SameLists(to))
		} else {
			require.True(t, from.SameLists(to))
		}
		was := from
		for _, s := range steps {
			parts := 0
			for _, differs := range []bool{was.Owner != s.Owner || was.Group != s.Group, !sameList(was.Access, s.Access), was.Special != s.Special, !sameList(was.Default, s.Default)} {
				if differs {
					parts++
				}
			}
			require.Equal(t, 1, parts)
			require.True(t, s.Between(from, to) && s.Between(to, from))
			was = s
			for _, p := range everyone {
				for want := R; want <= R|W|X; want++ {
					gives := func(r *Rules) bool { ok, _ := r.Permits(p.is, want); return ok }
					if gives(s) {
						require.True(t, gives(from) || gives(to), "%03b for %v by %+v", want, p, s)
						met["grants"]++
					}
					made := func(r *Rules) bool {
						ok, _ := NewChild(r, false, makes, first, 0o666, umask).Permits(p.is, want)
						return ok
					}
					if s.Folder && !p[makes] && made(s) {
						require.True(t, made(from) || made(to), "%03b for %v of what %v makes by %+v", want, p, makes, s)
						met["made"]++
					}
				}
				if s.Folder && MayRename(s, item, p.is) {
					require.True(t, MayRename(from, item, p.is) || MayRename(to, item, p.is), "%v renames by %+v", p, s)
					met["renames"]++
				}
				for _, special := range []uint16{SetUID, SetGID} {
					as := func(r *Rules) account.ID {
						if ok, _ := r.Permits(p.is, X); r.Folder || !ok || r.Special&special == 0 {
							return account.ID{}
						}
						return map[uint16]account.ID{SetUID: r.Owner, SetGID: r.Group}[special]
					}
					if id := as(s); !id.IsZero() {
						require.True(t, id == as(from) || id == as(to), "%v runs as %v by %+v", p, id, s)
						met["runs"]++
					}
				}
			}
		}
	})
	for _, what := range []string{"grants", "made", "renames", "runs"} {
		require.Positive(t, met[what], what)
	}
}

// TestBetweenKnowsTheBits: a bit that neither side has is no moment between them,
// for an item that has it was somebody else's doing.
func TestBetweenKnowsTheBits(t *testing.T) {
	from := &Rules{Folder: true, Owner: account.UID(4001), Group: account.GID(5001), Access: Of(0o750)}
	to := &Rules{Folder: true, Owner: account.UID(4001), Group: account.GID(5001), Access: Of(0o770), Special: SetGID}
	for _, access := range []List{from.Access, to.Access} {
		for bits, known := range map[uint16]bool{0: true, SetGID: true, SetUID: false, Sticky: false, SetGID | Sticky: false, SetUID | SetGID: false} {
			r := &Rules{Folder: true, Owner: from.Owner, Group: from.Group, Access: access, Special: bits}
			require.Equal(t, known, r.Between(from, to), "%o with %v", bits, access)
			require.Equal(t, known, r.Between(to, from), "%o with %v, back", bits, access)
		}
	}
}
