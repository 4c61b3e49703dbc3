package plan_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	acc "tarnwold/core/account"
	"tarnwold/internal/ask"
	"tarnwold/internal/ask/findings"
	"tarnwold/internal/ask/show"
	"tarnwold/internal/estate"
	"tarnwold/internal/estate/edit"
	"tarnwold/internal/format"
	"tarnwold/internal/format/shape"
	"tarnwold/internal/plan"
	"tarnwold/internal/plan/intake"
	"tarnwold/internal/plan/people"
	"tarnwold/internal/plan/servers"
)

// house is an estate that scans of POSIX systems come to.
type house struct {
	t *testing.T
	e *estate.Estate
}

func newHouse(t *testing.T) *house {
	file := t.TempDir() + "/x.estate"
	require.NoError(t, estate.Create(ctx, file))
	e, err := estate.Open(ctx, file)
	require.NoError(t, err)
	t.Cleanup(func() { e.Close() })
	return &house{t, e}
}

func (h *house) keep(fn func(d *plan.Planner) (*plan.Plan, error)) {
	var p *plan.Plan
	require.NoError(h.t, h.e.View(ctx, func(x *estate.Tx) (err error) { p, err = fn(plan.New(x, "outsider")); return err }))
	if !p.Changes() {
		return
	}
	_, err := h.e.Change(ctx, p.Meta("test"), p.Keep)
	require.NoError(h.t, err)
}

func (h *house) server(name string) (s estate.Server) {
	h.view(func(t *estate.Tx) {
		var err error
		s, err = t.Server(name)
		require.NoError(h.t, err)
	})
	return s
}

func (h *house) view(fn func(t *estate.Tx)) {
	require.NoError(h.t, h.e.View(ctx, func(t *estate.Tx) error { fn(t); return t.Err() }))
}

// scan takes in what a machine tells of its accounts, as a scan does.
func (h *house) scan(name string, f people.AccountFile) {
	f.POSIX = true
	s := h.server(name)
	h.keep(func(d *plan.Planner) (*plan.Plan, error) { return intake.OwnRenamed(d, s, f) })
	h.keep(func(d *plan.Planner) (*plan.Plan, error) {
		p, _, err := intake.AccountsFound(d, s, f)
		return p, err
	})
	h.keep(func(d *plan.Planner) (*plan.Plan, error) { return intake.MembersGone(d, s, f) })
	h.keep(func(d *plan.Planner) (*plan.Plan, error) { return intake.OwnGone(d, s, f) })
}

func (h *house) named(name string) (a acc.Account) {
	h.view(func(t *estate.Tx) {
		var err error
		a, err = t.Named(name, 0)
		require.NoError(h.t, err, name)
	})
	return a
}

// at is named in a transaction that is open already.
func (h *house) at(x *estate.Tx, name string) acc.Account {
	a, err := x.Named(name, 0)
	require.NoError(h.t, err, name)
	return a
}

func (h *house) gone(names ...string) {
	h.view(func(t *estate.Tx) {
		for _, name := range names {
			_, ok := t.FindNamed(name, 0)
			require.False(h.t, ok, name)
		}
	})
}

func passwdRow(kind acc.Kind, name string, n, first int64) format.AccountRow {
	return format.AccountRow{PrimaryGID: first, Account: acc.Account{Kind: kind, Name: name, POSIX: n}}
}

// TestAMachinesOwnStayApart: two machines give one number and one name to other people;
// whoever the estate has by both is that one; who is called otherwise or gone follows.
func TestAMachinesOwnStayApart(t *testing.T) {
	h := newHouse(t)
	domainRow := func(kind acc.Kind, name string, rid uint32, n int64) format.AccountRow {
		return format.AccountRow{PrimaryGID: acc.NoPOSIX, Account: acc.Account{Kind: kind, Name: name, ID: dom.Child(rid), POSIX: n}}
	}
	h.keep(func(d *plan.Planner) (*plan.Plan, error) {
		p, _, err := people.LoadAccounts(d, []people.AccountFile{{Accounts: []format.AccountRow{domainRow(acc.User, "ines", 1000, 4001), domainRow(acc.User, "bram", 1001, 4002), domainRow(acc.Group, "wardrobe", 2000, 5001)}}})
		return p, err
	})
	for _, name := range []string{"workbench", "lathe"} {
		h.keep(func(d *plan.Planner) (*plan.Plan, error) { return servers.AddServer(d, name, "posix", nil, nil, nil) })
	}
	file := people.AccountFile{
		Accounts: []format.AccountRow{passwdRow(acc.User, "daemon", 1, 1), passwdRow(acc.User, "ines", 4001, 100), passwdRow(acc.User, "somebody", 4002, 100), passwdRow(acc.User, "Daemon", 3, 77),
			passwdRow(acc.Group, "daemon", 1, acc.NoPOSIX), passwdRow(acc.Group, "users", 100, acc.NoPOSIX), passwdRow(acc.Group, "wardrobe", 5001, acc.NoPOSIX)},
		Members: format.MembershipsOf(format.MemberRow{Group: "group:users", Member: "user:ines"}, format.MemberRow{Group: "group:wardrobe", Member: "user:somebody"}),
	}
	h.scan("workbench", file)
	h.scan("lathe", people.AccountFile{Accounts: []format.AccountRow{passwdRow(acc.User, "daemon", 9, 1), passwdRow(acc.User, "porter", 1, 1)}})

	bench, lathe := h.server("workbench"), h.server("lathe")
	daemon, other := h.named("user:daemon@workbench"), h.named("daemon@lathe")
	require.NotEqual(t, daemon.ID, other.ID)
	require.Equal(t, h.named("group:daemon@workbench").ID, daemon.Primary)
	require.Equal(t, int64(3), h.named("Daemon@3@workbench").POSIX)
	require.Equal(t, acc.GID(77), h.named("Daemon@3@workbench").Primary, "no group there has the number")
	require.Equal(t, dom.Child(1000), h.named("ines").ID, "number and name are hers")
	require.Equal(t, int64(4002), h.named("somebody@workbench").POSIX, "bram is called otherwise")
	h.gone("ines@workbench", "somebody@lathe", "bram@workbench", "wardrobe@workbench")
	h.view(func(x *estate.Tx) {
		for _, c := range []struct {
			who  acc.Account
			on   estate.Server
			has  plan.ID
			want bool
		}{
			{daemon, bench, acc.UID(1), true}, {daemon, lathe, acc.UID(1), false}, {daemon, lathe, acc.Everyone, false},
			{h.at(x, "porter@lathe"), lathe, acc.UID(1), true}, {h.at(x, "porter@lathe"), bench, acc.Everyone, false},
			{h.at(x, "ines"), bench, acc.GID(100), true}, {h.at(x, "ines"), lathe, acc.GID(100), false}, {h.at(x, "ines"), lathe, acc.UID(4001), true},
			{h.at(x, "somebody@workbench"), bench, acc.GID(5001), true},
		} {
			tok := acc.NewToken(x, c.who.ID, c.on.Traits.Traits, acc.Everyone)
			require.Equal(t, c.want, tok.Has(c.has), "%s on %s: %s", c.who.Name, c.on.Name, c.has)
		}
		require.Equal(t, "uid:1", x.Name(acc.UID(1)), "the machines don't agree who it is")
		back := x.NumbersOf(lathe)
		require.Equal(t, "porter", x.Name(acc.UID(1)))
		back()
		back = x.NumbersOf(bench)
		require.Equal(t, "daemon", x.Name(acc.UID(1)))
		require.Equal(t, "uid:9", x.Name(acc.UID(9)))
		back()
		require.Equal(t, "uid:1", x.Name(acc.UID(1)))
		_, err := x.Named("user:daemon", 0)
		require.ErrorContains(t, err, "say which")
	})

	// The machine calls one otherwise, has one no more, and has one that came back as
	// somebody of the estate.
	h.keep(func(d *plan.Planner) (*plan.Plan, error) {
		return people.Join(d, "wardrobe", []string{"user:daemon@workbench"}, "")
	})
	again := file
	again.Accounts = []format.AccountRow{passwdRow(acc.User, "demon", 1, 1), passwdRow(acc.User, "ines", 4001, 5001), passwdRow(acc.User, "bram", 4002, 100),
		passwdRow(acc.Group, "daemon", 1, acc.NoPOSIX), passwdRow(acc.Group, "users", 100, acc.NoPOSIX), passwdRow(acc.Group, "wardrobe", 5001, acc.NoPOSIX)}
	again.Members = format.MembershipsOf(format.MemberRow{Group: "group:users", Member: "user:bram"})
	h.scan("workbench", again)
	require.Equal(t, daemon.ID, h.named("demon@workbench").ID)
	h.gone("somebody@workbench", "Daemon@3@workbench")
	require.Equal(t, "porter@lathe", h.named("porter").Name)
	// A directory's user with a machine's number isn't the machine's own.
	h.keep(func(d *plan.Planner) (*plan.Plan, error) {
		p, _, err := intake.TakePeople(d, &shape.People{People: []shape.Person{{Account: acc.Account{Kind: acc.User, Name: "vera", POSIX: 9}, First: acc.NoPOSIX}}}, intake.PeopleFrom{File: "people.ldif"})
		return p, err
	})
	require.Equal(t, acc.UID(9), h.named("vera").ID)
	require.Equal(t, other.ID, h.named("daemon@lathe").ID)
	h.view(func(x *estate.Tx) {
		users := h.at(x, "users@workbench").ID
		_, is := x.Member(users, h.at(x, "bram").ID)
		require.True(t, is)
		_, is = x.Member(users, h.at(x, "ines").ID)
		require.False(t, is, "she left")
		require.Equal(t, dom.Child(2000), h.at(x, "ines").Primary)
	})
}

// TestADirectoryHasTheSay: on a machine that takes its accounts from a directory, those
// are the directory's, by what was said, and its groups stay as it has them, in either
// order of scan and sync.
func TestADirectoryHasTheSay(t *testing.T) {
	for _, by := range []estate.LinkedBy{estate.ByBoth, estate.ByNumber} {
		h := newHouse(t)
		h.keep(func(d *plan.Planner) (*plan.Plan, error) {
			return servers.AddServer(d, "workbench", "posix", nil, nil, nil)
		})
		file := people.AccountFile{
			Accounts: []format.AccountRow{passwdRow(acc.User, "ines", 4001, 100), passwdRow(acc.User, "b.hale", 4002, 100), passwdRow(acc.User, "petra", 4003, 100), passwdRow(acc.User, "guest", 4009, 100),
				passwdRow(acc.Group, "wardrobe", 5001, acc.NoPOSIX), passwdRow(acc.Group, "users", 100, acc.NoPOSIX)},
			Members: format.MembershipsOf(format.MemberRow{Group: "group:wardrobe", Member: "user:petra"}, format.MemberRow{Group: "group:users", Member: "user:ines"}),
		}
		h.keep(func(d *plan.Planner) (*plan.Plan, error) {
			return people.AddAccounts(d, []string{"guest"}, people.NewAccount{Kind: acc.User, POSIX: 4009})
		})
		h.scan("workbench", file)
		h.named("ines@workbench")
		h.gone("guest@workbench")
		// The directory is read afterwards.
		h.keep(func(d *plan.Planner) (*plan.Plan, error) {
			p := d.NewPlan("people of house")
			for i, name := range []string{"ines", "bram"} {
				a := acc.Account{ID: dom.Child(uint32(1000 + i)), Kind: acc.User, Name: name, POSIX: int64(4001 + i)}
				p.Work.Accounts = append(p.Work.Accounts, edit.Account{After: &a})
				if err := p.SetRecord(estate.MetadataRecord, a.ID.String(), "", plan.Metadata{Directory: "house"}, edit.Description{}); err != nil {
					return nil, err
				}
			}
			g := acc.Account{ID: dom.Child(2000), Kind: acc.Group, Name: "wardrobe", POSIX: 5001}
			p.Work.Accounts = append(p.Work.Accounts, edit.Account{After: &g})
			if err := p.SetRecord(estate.MetadataRecord, g.ID.String(), "", plan.Metadata{Directory: "house"}, edit.Description{}); err != nil {
				return nil, err
			}
			if err := p.SetRecord(estate.DirectoryRecord, "house", "", plan.Directory{Name: "house"}, edit.Description{}); err != nil {
				return nil, err
			}
			return d.Evaluate(p)
		})
		bench := h.server("workbench")
		h.keep(func(d *plan.Planner) (*plan.Plan, error) { return people.LinkRealm(d, "workbench", "house", by) })
		h.view(func(x *estate.Tx) {
			d := plan.New(x, "outsider")
			require.Equal(t, []string{"user petra@workbench is in group wardrobe"}, intake.DiffersThere(d, bench, withNumbers(file)))
		})
		otherwise := func() (out []string) {
			h.view(func(x *estate.Tx) {
				found, err := findings.Findings(ask.New(x), findings.FindingsOptions{Kinds: []string{"otherwise-there"}})
				require.NoError(t, err)
				for _, f := range found {
					out = append(out, f.Where+": "+f.What)
				}
			})
			return out
		}
		require.Empty(t, otherwise())
		note := func(file people.AccountFile) {
			require.NoError(t, h.e.Note(t.Context(), func(x *estate.Tx) error {
				intake.NoteDiffering(x, bench, intake.DiffersThere(plan.New(x, "outsider"), bench, withNumbers(file)))
				return x.Err()
			}))
		}
		note(file)
		require.Equal(t, []string{"server workbench: user petra@workbench is in group wardrobe there, and not in the directory, which has the say"}, otherwise())
		note(people.AccountFile{Accounts: file.Accounts})
		require.Empty(t, otherwise(), "the next scan tells it no more")
		h.scan("workbench", file)
		h.gone("ines@workbench", "wardrobe@workbench")
		h.named("petra@workbench")
		h.named("guest@workbench") // the estate's own guest isn't the directory's
		h.view(func(x *estate.Tx) {
			require.Empty(t, x.MembersOf(dom.Child(2000)), "the directory's group stays as the directory has it")
			_, is := x.Member(h.at(x, "users@workbench").ID, dom.Child(1000))
			require.True(t, is)
			_, own := x.FindNamed("b.hale@workbench", 0)
			require.Equal(t, by == estate.ByBoth, own, "bram is called otherwise there")
		})
		h.keep(func(d *plan.Planner) (*plan.Plan, error) { return people.UnlinkRealm(d, "workbench") })
		h.scan("workbench", file)
		h.named("b.hale@workbench")
	}
}

func withNumbers(f people.AccountFile) people.AccountFile { f.POSIX = true; return f }

// TestAMembersOwnGroups: which groups are a domain member's own, its last scan tells; they
// don't count in one another there, and that is said.
func TestAMembersOwnGroups(t *testing.T) {
	h := newHouse(t)
	dom, own := acc.NewID(5, 21, 5, 5, 5), acc.NewID(5, 21, 6, 6, 6)
	h.keep(func(d *plan.Planner) (*plan.Plan, error) {
		return servers.AddServer(d, "flyloft", "smb-member", nil, nil, nil)
	})
	ines := acc.Account{ID: dom.Child(1000), Kind: acc.User, Name: "ines", POSIX: acc.NoPOSIX}
	inner := acc.Account{ID: own.Child(1001), Kind: acc.Group, Name: "hands", POSIX: acc.NoPOSIX}
	outer := acc.Account{ID: own.Child(1002), Kind: acc.Group, Name: "crew", POSIX: acc.NoPOSIX}
	h.keep(func(d *plan.Planner) (*plan.Plan, error) {
		p := d.NewPlan("people")
		for _, a := range []*acc.Account{&ines, &inner, &outer} {
			p.Work.Accounts = append(p.Work.Accounts, edit.Account{After: a})
		}
		return d.Evaluate(p)
	})
	h.keep(func(d *plan.Planner) (*plan.Plan, error) {
		p := d.NewPlan("members")
		p.Work.Members = []edit.Membership{{Group: &inner, Member: &ines, Is: &estate.Membership{Local: true}}, {Group: &outer, Member: &inner, Is: &estate.Membership{Local: true}}}
		return d.Evaluate(p)
	})
	holds := func() (in []string, beside map[string]string) {
		beside = map[string]string{}
		h.view(func(x *estate.Tx) {
			got, err := show.UserOn(ask.New(x), "ines", "flyloft", false)
			require.NoError(t, err)
			for _, g := range got.Token {
				in = append(in, g.Name)
			}
			for _, g := range got.Beside {
				beside[g.Name] = g.Why
			}
		})
		return in, beside
	}
	in, beside := holds()
	require.Contains(t, in, "crew", "whose groups they are isn't known before a scan")
	require.Empty(t, beside)
	flyloft := h.server("flyloft")
	require.NoError(t, h.e.Note(t.Context(), func(x *estate.Tx) error {
		x.SetScanned(flyloft, time.Now(), own)
		return x.Err()
	}))
	in, beside = holds()
	require.Contains(t, in, "hands")
	require.NotContains(t, in, "crew")
	require.Equal(t, map[string]string{"crew": "own-groups"}, beside)
}
