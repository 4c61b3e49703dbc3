package posix

import (
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"tarnwold/core/account"
	"tarnwold/core/right"
	"tarnwold/core/rule"
)

// crowd is who there is: users who own and are named, each in some groups.
var (
	users  = []account.ID{account.UID(1), account.UID(2), account.UID(3), account.UID(4)}
	groups = []account.ID{account.GID(1), account.GID(2), account.GID(3)}
)

func drawList(t *rapid.T) List {
	perm := func() Perm { return Perm(rapid.IntRange(0, 7).Draw(t, "perm")) }
	l := List{{Tag: UserObj, Perm: perm()}}
	for _, u := range users[:rapid.IntRange(0, 3).Draw(t, "users")] {
		l = append(l, Entry{User, u, perm()})
	}
	l = append(l, Entry{Tag: GroupObj, Perm: perm()})
	for _, g := range groups[:rapid.IntRange(0, 3).Draw(t, "groups")] {
		l = append(l, Entry{Group, g, perm()})
	}
	if len(l) > 2 {
		l = append(l, Entry{Tag: Mask, Perm: perm()})
	}
	return append(l, Entry{Tag: Other, Perm: perm()})
}

func drawRules(t *rapid.T) *Rules {
	r := &Rules{Folder: rapid.Bool().Draw(t, "folder"), Owner: rapid.SampledFrom(users).Draw(t, "owner"), Group: rapid.SampledFrom(groups).Draw(t, "group"),
		Special: uint16(rapid.IntRange(0, 7).Draw(t, "special")) << 9, Access: drawList(t)}
	if r.Folder && rapid.Bool().Draw(t, "default") {
		r.Default = drawList(t)
	}
	return r
}

type person map[account.ID]bool

func (p person) is(id account.ID) bool { return p[id] }

func everybody() (out []person) {
	for _, u := range users {
		for bits := range 1 << len(groups) {
			p := person{u: true}
			for i, g := range groups {
				if bits>>i&1 != 0 {
					p[g] = true
				}
			}
			out = append(out, p)
		}
	}
	return out
}

// draft is the access check algorithm word by word (§23.1.5), for one
// permission at a time, and Linux's passing over a list with an empty mask.
func draft(r *Rules, p person, want Perm) bool {
	l := r.Access
	if m, ok := l.of(Mask); ok && m == 0 {
		l = Of(r.Access.Bits())
	}
	mask := R | W | X
	for _, e := range l {
		if e.Tag == Mask {
			mask = e.Perm
		}
	}
	if p[r.Owner] {
		return l[0].Perm&want == want
	}
	for _, e := range l {
		if e.Tag == User && p[e.Who] {
			return e.Perm&mask&want == want
		}
	}
	in := false
	for _, e := range l {
		if e.Tag == GroupObj && p[r.Group] || e.Tag == Group && p[e.Who] {
			in = true
			if e.Perm&mask&want == want {
				return true
			}
		}
	}
	if in {
		return false
	}
	return l[len(l)-1].Perm&want == want
}

// granted walks steps as a decision does.
func granted(steps []rule.Step, p person) (got right.Set) {
	want := right.All
	for _, s := range steps {
		if m := s.Rights & want; m != 0 && (s.Who.IsZero() || p[s.Who]) {
			if !s.Refuses {
				got |= m
			}
			want &^= m
		}
	}
	return got
}

// TestStepsAreTheDraftsAlgorithm: for everybody, each permission.
func TestStepsAreTheDraftsAlgorithm(t *testing.T) {
	yes, no := 0, 0
	rapid.Check(t, func(t *rapid.T) {
		r := drawRules(t)
		steps := r.Steps(rule.Reading{Owner: true})
		for _, p := range everybody() {
			got := granted(steps, p)
			for want, one := range map[Perm]right.Set{R: right.ReadData, W: right.WriteNamedAttrs, X: right.Execute} {
				may := draft(r, p, want)
				ok, _ := r.Permits(p.is, want)
				require.Equal(t, may, ok)
				require.Equal(t, may, got&one != 0, "%s %v", want, p)
				if may {
					yes++
				} else {
					no++
				}
			}
			adds := draft(r, p, W)
			if r.Folder { // both at once, by one group
				adds = draft(r, p, W|X)
			}
			require.Equal(t, adds, got.Has(right.WriteData|right.AppendData))
			require.Equal(t, adds && r.Folder && (r.Special&Sticky == 0 || p[r.Owner]), got&right.DeleteChild != 0)
			require.Equal(t, p[r.Owner], got&right.WriteACL != 0)
		}
	})
	require.Greater(t, yes, 1000)
	require.Greater(t, no, 1000)
}

// effective is what each class that somebody may be in comes to.
func effective(l List) map[Entry]Perm {
	out := map[Entry]Perm{}
	for _, e := range l {
		if l.mask() == 0 && e.Tag.named() {
			out[Entry{Tag: e.Tag, Who: e.Who}] = perm(l, Other)
		} else if e.Tag != Mask {
			out[Entry{Tag: e.Tag, Who: e.Who}] = l.Counts(e)
		}
	}
	return out
}

// TestTurnedTouchesNobodyElse: giving, setting, taking and dropping turn what
// one class has, leave what every other counts as it was, and give valid lists
// that a kernel doesn't pass over unless it did.
func TestTurnedTouchesNobodyElse(t *testing.T) {
	met := map[string]int{}
	rapid.Check(t, func(t *rapid.T) {
		r := drawRules(t)
		who := rapid.SampledFrom(append(append([]account.ID{account.Everyone}, users...), groups...)).Draw(t, "who")
		p := Perm(rapid.IntRange(0, 7).Draw(t, "perm"))
		kind := rapid.SampledFrom([]string{"add", "set", "take", "drop"}).Draw(t, "kind")
		turn := map[string]Turn{"add": Adds(p), "set": Sets(p), "take": Takes(p), "drop": Drops()}[kind]
		tag := slot(r.Access, who, r.Owner, r.Group)
		key := Entry{Tag: tag}
		if tag.named() {
			key.Who = who
		}
		was := effective(r.Access)
		had, there := was[key]
		after := r.Turned(who, turn, nil)
		require.True(t, after.Access.Valid(), "%v", after.Access)
		is := effective(after.Access)
		got, still := is[key]
		switch kind {
		case "add":
			require.Equal(t, had|p, got)
			require.True(t, still)
		case "set":
			require.Equal(t, p, got)
			require.True(t, still)
		case "take":
			require.Equal(t, had&^p, got)
			require.Equal(t, there, still)
		case "drop":
			require.Zero(t, got)
			require.Equal(t, !tag.named(), still)
		}
		delete(was, key)
		delete(is, key)
		if r.Skips() && tag == Other { // whoever the list names is one of the others
			for k := range was {
				if k.Tag.named() {
					delete(was, k)
					delete(is, k)
				}
			}
		}
		require.Equal(t, was, is, "nobody else: %v to %v", r.Access, after.Access)
		if !r.Skips() && after.Access.Extended() {
			require.False(t, after.Skips(), "%v", after.Access)
		}
		if after == r {
			met["nothing"]++
		}
		met[kind]++
		if kind == "add" { // again it is so already
			require.Same(t, after, after.Turned(who, turn, nil))
		}
		if r.Folder {
			below := r.Turned(who, nil, turn)
			if below.Default != nil {
				require.True(t, below.Default.Valid(), "%v", below.Default)
			}
			require.Equal(t, r.Access, below.Access)
		}
	})
	for _, k := range []string{"nothing", "add", "set", "take", "drop"} {
		require.Greater(t, met[k], 5, k)
	}
}

// TestTakenBackIsAsBefore: what led from one to another, taken out again.
func TestTakenBackIsAsBefore(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		was := drawRules(t)
		is := drawRules(t)
		is.Folder = was.Folder
		if !is.Folder {
			is.Default = nil
		}
		require.True(t, is.TakingBack(was, is).Same(was))
		later := is.Turned(account.UID(77), Adds(R), nil) // somebody came since, and stays
		back := later.TakingBack(was, is)
		require.True(t, back.Access.Valid())
		require.True(t, back.Names(account.UID(77)) || later == is)
	})
}

// TestHandedIsWhatCame: a default list that gives more gives it below too, and
// gives no more takes it again where it stands as it was handed.
func TestHandedIsWhatCame(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		up := drawRules(t)
		up.Folder = true
		item := drawRules(t)
		who := account.UID(50) // nobody there
		p := Perm(rapid.IntRange(1, 7).Draw(t, "perm"))
		to := up.Turned(who, nil, Adds(p))
		got := item.Handed(up, to)
		want := item.handed(p)
		require.Equal(t, want, effective(got.Access)[Entry{User, who, 0}])
		back := got.Handed(to, to.Turned(who, nil, Drops()))
		require.False(t, back.Names(who), "%v", back.Access)
		require.Equal(t, effective(item.Access), effective(back.Access), "%v, %v, %v", item.Access, got.Access, back.Access)
	})
}

// TestMeans: what levels stand for.
func TestMeans(t *testing.T) {
	for level, want := range map[string][2]string{"pass": {"--x", "---"}, "list": {"r-x", "---"}, "read": {"r-x", "r--"}, "drop": {"-wx", "---"}, "add": {"rwx", "r--"},
		"revise": {"rwx", "rw-"}, "edit": {"rwx", "rw-"}, "full": {"rwx", "rw-"}} {
		l, ok := right.Builtin().Lookup(level)
		require.True(t, ok)
		m := Means(right.What{Folder: l.Folder, File: l.File})
		require.Equal(t, want, [2]string{m.Folder.String(), m.File.String()}, level)
		run := &Rules{Access: Of(0o755)}
		still := &Rules{Access: Of(0o644)}
		if m.File != 0 {
			require.Equal(t, m.File|X, m.On(run), "%s: x is kept where it stands", level)
			require.Equal(t, m.File, m.On(still), level)
		}
		require.Equal(t, level == "drop" || level == "add" || level == "revise", m.TakesOut, level)
	}
}

// TestLevelSays: granted rights in words.
func TestLevelSays(t *testing.T) {
	tok := func(r *Rules, p person) right.Set { return granted(r.Steps(rule.Reading{Owner: true}), p) }
	file := &Rules{Owner: users[0], Group: groups[0], Access: Of(0o640)}
	require.Equal(t, "revise rw- as owner", Level(tok(file, person{users[0]: true}), false))
	require.Equal(t, "read r--", Level(tok(file, person{users[1]: true, groups[0]: true}), false))
	require.Equal(t, "nothing", Level(tok(file, person{users[1]: true}), false))
	folder := &Rules{Folder: true, Special: Sticky, Owner: users[0], Group: groups[0], Access: Of(0o777)}
	require.Equal(t, "add rwx", Level(tok(folder, person{users[1]: true}), true))
	require.Equal(t, "edit rwx as owner", Level(tok(folder, person{users[0]: true}), true))
	require.Equal(t, "full", Level(right.All, false))
	require.Equal(t, "read r-x and -w-, not at once", Level(right.ReadData|right.ReadNamedAttrs|right.Execute|right.WriteNamedAttrs|everyones, true), "by two groups")
	require.Equal(t, "pass --x and -w-, not at once", Level(right.Execute|right.WriteNamedAttrs|everyones, true))
	require.Equal(t, "-w-", Level(right.WriteNamedAttrs|everyones, true))
}
