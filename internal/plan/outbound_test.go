package plan_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	acc "tarnwold/core/account"
	"tarnwold/core/right"
	"tarnwold/core/rule"
	"tarnwold/internal/estate"
	"tarnwold/internal/estate/edit"
	"tarnwold/internal/plan"
	"tarnwold/internal/plan/people"
	"tarnwold/internal/plan/servers"
	"tarnwold/internal/server"
)

// TestTheWayThatLetsUsWrite: of the shares that lead to a place, that is taken which lets
// who writes change rules and owners, however near another one is.
func TestTheWayThatLetsUsWrite(t *testing.T) {
	share := func(name, folder string, everyone right.Set) estate.Share {
		d := &rule.Descriptor{Control: rule.RulesPresent}
		d.Rules.Entries = []rule.Entry{{Kind: rule.Allow, Who: acc.Everyone, Rights: everyone}}
		return estate.Share{Name: name, Folder: folder, Descriptor: d}
	}
	shares := []estate.Share{share("top", "/srv", 0x1200a9), share("open", "/srv/house", right.All), share("near", "/srv/house/cast", 0x1301bf), share("elsewhere", "/data", right.All)}
	lets := map[string]right.Set{}
	way := func(path string) string {
		name, rest, ok := plan.Way(shares, path, func(s *estate.Share) right.Set { return lets[s.Name] })
		if !ok {
			return "none"
		}
		return name + ":" + rest
	}
	require.Equal(t, "open:cast/list", way("/srv/house/cast/list"), "of which nothing is known, that which limits nobody")
	lets["top"] = right.All
	require.Equal(t, "top:house/cast/list", way("/srv/house/cast/list"), "others don't let them: they are listed, or it is read-only to them")
	lets["near"] = right.All &^ right.WriteOwner
	require.Equal(t, "top:house/cast/list", way("/srv/house/cast/list"))
	lets["near"] = right.All
	require.Equal(t, "near:list", way("/srv/house/cast/list"))
	require.Equal(t, "none", way("/other"))
	name, _, _ := plan.Way(shares, "/srv/house/cast/list", nil)
	require.Equal(t, "open", name)

	require.Equal(t, `QUILLFEATHER\warden`, estate.Link{Text: `{"user":"warden","domain":"QUILLFEATHER"}`}.SignsOnAs())
	require.Equal(t, "warden", estate.Link{Text: `{"user":"warden"}`}.SignsOnAs())
	require.Empty(t, estate.Link{Text: `x`}.SignsOnAs())
}

// TestWhoseMembersTheyAre: groups of a real server's own domain are its own, but for those
// that a directory has; built-in ones are of the machine that they are of.
func TestWhoseMembersTheyAre(t *testing.T) {
	h := newHouse(t)
	dom := acc.NewID(5, 21, 3, 3, 3)
	for _, name := range []string{"box", "elsewhere"} {
		var link *estate.Link
		if name == "box" {
			link = &estate.Link{Kind: "smb", Text: "{}"}
		}
		h.keep(func(d *plan.Planner) (*plan.Plan, error) { return servers.AddServer(d, name, "smb", nil, nil, link) })
	}
	box, elsewhere := h.server("box"), h.server("elsewhere")
	require.NoError(t, h.e.Note(t.Context(), func(x *estate.Tx) error { x.SetScanned(box, time.Now(), dom); return x.Err() }))
	users := acc.NewID(5, 32, 545)
	ours, _ := users.In(estate.ServerRealm(box))
	theirs, _ := users.In(estate.ServerRealm(elsewhere))
	groups := map[string]plan.ID{"own": dom.Child(2000), "directory's": dom.Child(2001), "stranger's": acc.NewID(5, 21, 4, 4, 4, 2000), "users@box": ours, "users@elsewhere": theirs}
	h.keep(func(d *plan.Planner) (*plan.Plan, error) {
		p := d.NewPlan("people")
		p.Work.Accounts = append(p.Work.Accounts, edit.Account{After: &acc.Account{ID: dom.Child(1000), Kind: acc.User, Name: "ines", POSIX: acc.NoPOSIX}})
		for name, id := range groups {
			p.Work.Accounts = append(p.Work.Accounts, edit.Account{After: &acc.Account{ID: id, Kind: acc.Group, Name: name, POSIX: acc.NoPOSIX}})
		}
		if err := p.SetRecord(estate.MetadataRecord, groups["directory's"].String(), "", plan.Metadata{Directory: "house"}, edit.Description{}); err != nil {
			return nil, err
		}
		return d.Evaluate(p)
	})
	h.view(func(x *estate.Tx) {
		d := plan.New(x, "outsider")
		p := d.NewPlan("joins")
		p.Work.FromDirectory = true // else the group of the directory is refused
		ines, _ := x.Account(dom.Child(1000))
		for _, name := range []string{"users@elsewhere", "own", "directory's", "stranger's", "users@box", "own"} {
			g, ok := x.Account(groups[name])
			require.True(t, ok, name)
			p.Work.Members = append(p.Work.Members, edit.Membership{Group: &g, Member: &ines, Is: &estate.Membership{}})
		}
		p, err := d.Evaluate(p)
		require.NoError(t, err)
		require.Equal(t, []plan.TheirsAlone{{Server: "box", Groups: []string{"own", "users@box"}}}, p.Theirs)
	})

	// Who comes to them goes there; who an estate has made up, or another machine's
	// account, can't.
	h.keep(func(d *plan.Planner) (*plan.Plan, error) {
		return people.AddAccounts(d, []string{"walkon"}, people.NewAccount{Kind: acc.User, POSIX: acc.NoPOSIX})
	})
	h.view(func(x *estate.Tx) {
		out := func(group, member acc.ID, more ...edit.Account) ([]plan.Outbound, *plan.Plan, error) {
			d := plan.New(x, "outsider")
			p := d.NewPlan("joins")
			g, ok := x.Account(group)
			require.True(t, ok)
			m, ok := x.Account(member)
			require.True(t, ok)
			p.Work.Members = append(p.Work.Members, edit.Membership{Group: &g, Member: &m, Is: &estate.Membership{}})
			p.Work.Accounts = append(p.Work.Accounts, more...)
			p, err := d.Evaluate(p)
			require.NoError(t, err)
			all, err := d.Outbound(p)
			return all, p, err
		}
		ines := dom.Child(1000)
		walkon, err := x.Named("walkon", acc.User)
		require.NoError(t, err)
		for _, name := range []string{"own", "users@box"} {
			all, p, err := out(groups[name], ines)
			require.NoError(t, err)
			require.Empty(t, p.Theirs)
			require.Len(t, all, 1)
			require.Equal(t, "box", all[0].Server)
			require.Len(t, all[0].Writes, 1)
			require.Equal(t, &server.Member{Group: groups[name], Member: ines}, all[0].Writes[0].Member)
			require.True(t, all[0].Writes[0].In)

			_, _, err = out(groups[name], walkon.ID)
			require.ErrorContains(t, err, "is kept on the real server box, which doesn't know walkon")
		}
		all, p, err := out(groups["stranger's"], walkon.ID)
		require.NoError(t, err)
		require.Empty(t, all)
		require.Empty(t, p.Theirs)
		_, _, err = out(groups["own"], groups["users@elsewhere"])
		require.ErrorContains(t, err, "which doesn't know")
		leaves, ok := x.Account(ines)
		require.True(t, ok)
		all, p, err = out(groups["own"], ines, edit.Account{Before: &leaves})
		require.NoError(t, err)
		require.Empty(t, all, "who goes from the estate goes from there alone")
		require.Equal(t, []plan.TheirsAlone{{Server: "box", Groups: []string{"own"}}}, p.Theirs)
		group, ok := x.Account(groups["own"])
		require.True(t, ok)
		all, _, err = out(groups["own"], ines, edit.Account{Before: &group})
		require.NoError(t, err)
		require.Empty(t, all, "and so do those in a group that goes")
	})

	// This machine's own groups are its system's, and aren't changed from here.
	h.keep(func(d *plan.Planner) (*plan.Plan, error) {
		return servers.AddServer(d, "here", "posix", nil, nil, &estate.Link{Kind: estate.LocalLink, Text: "{}"})
	})
	wheel, ok := acc.GID(10).On(estate.ServerRealm(h.server("here")))
	require.True(t, ok)
	h.view(func(x *estate.Tx) {
		d := plan.New(x, "outsider")
		p := d.NewPlan("joins")
		ines, _ := x.Account(dom.Child(1000))
		p.Work.Members = append(p.Work.Members, edit.Membership{Group: &acc.Account{ID: wheel, Kind: acc.Group, Name: "wheel"}, Member: &ines, Is: &estate.Membership{}})
		p, err := d.Evaluate(p)
		require.NoError(t, err)
		out, err := d.Outbound(p)
		require.NoError(t, err)
		require.Empty(t, out)
		require.Equal(t, []plan.TheirsAlone{{Server: "here", Groups: []string{"wheel"}}}, p.Theirs)
	})
}
