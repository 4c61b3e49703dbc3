//go:build unix

package smb

import (
	"context"
	"path/filepath"
	"slices"
	"testing"

	"github.com/stretchr/testify/require"

	"tarnwold/core/account"
	"tarnwold/core/verdict"
	"tarnwold/internal/ask"
	"tarnwold/internal/estate"
	"tarnwold/internal/plan"
	"tarnwold/internal/plan/servers"
	"tarnwold/internal/server"
	"tarnwold/internal/server/smb/smbtest"
)

// TestOnAMember: a machine that is a member of the domain, beside the controller, with
// groups, users and privileges of its own. Its decisions are held to the estate's, which
// has the same people on both.
func TestOnAMember(t *testing.T) {
	d := smbtest.InDomain(t)
	w := &trial{t: t, r: seed(t), ids: map[string]account.ID{}, exact: map[string]*Exact{}, traits: "smb-member"}
	w.users = domainPeople(t, d)
	controller, err := Dial(context.Background(), Link{Host: "127.0.0.1", Port: DefaultPort, User: "Administrator", Domain: d.Name}, Secret{Password: smbtest.Administrator})
	require.NoError(t, err)
	defer controller.Close()
	all, _, err := controller.Accounts(context.Background())
	require.NoError(t, err)
	known := map[string]string{}
	for _, a := range all {
		w.ids[a.Name] = a.ID
		if a.Kind == account.User {
			known[a.Name] = a.ID.String()
		}
	}
	id := func(name string) string { return w.ids[name].String() }
	w.s = d.Join(t, smbtest.Member{Name: "FLYLOFT", Known: known, Local: []string{"prompter"},
		Groups: map[string][]string{
			"l0": {id("u0"), id("g1")}, "l1": {id("n2")}, "l2": {"l0"}, "l3": {"S-1-5-32-551"},
			"S-1-5-32-544": {id("u4")},
			"S-1-5-32-551": {id("g2"), "l1"},
		},
		Built:  []string{"Backup Operators"},
		Rights: map[string][]string{d.Name + `\u5`: {"SeTakeOwnershipPrivilege"}},
		Shares: []string{"all", "odd0", "odd1", "odd2", "odd3", "odd4", "odd5", "ruled", "switched"}, Ruler: d.Name + `\Administrator`})
	w.s.Dir = filepath.Join(w.s.Dir, "shares")
	w.link = Link{Host: "127.0.0.1", Port: w.s.Port, User: "Administrator", Domain: d.Name}
	w.domains = map[string]string{"prompter": "FLYLOFT"}
	w.password = func(user string) string {
		if user == "prompter" {
			return smbtest.Password(user)
		}
		return domainPassword
	}
	w.admin, err = Dial(context.Background(), w.link, Secret{Password: smbtest.Administrator})
	require.NoError(t, err)
	defer w.admin.Close()
	own, _, err := w.admin.Accounts(context.Background())
	require.NoError(t, err)
	for _, a := range own {
		w.ids[a.Name] = a.ID // its own Users and Administrators have the identifiers the controller's have
	}
	w.ids["warden"] = w.ids["Administrator"]
	for _, name := range []string{"l0", "l1", "l2", "l3", "Administrators", "Users", "Backup Operators", "prompter"} {
		require.False(t, w.ids[name].IsZero(), name)
		w.more = append(w.more, w.ids[name])
	}
	for _, x := range []struct {
		c             *Client
		group, member string
	}{
		{w.admin, "l0", "u2"}, {w.admin, "l1", "g1"}, {w.admin, "Administrators", "u5"}, {w.admin, "Backup Operators", "prompter"},
		{controller, "g1", "u4"}, {controller, "Administrators", "u2"},
	} {
		membership(t, x.c, w.ids[x.group], w.ids[x.member])
	}
	prompter := w.ids["prompter"]
	require.ErrorContains(t, controller.SetMember(context.Background(), server.Member{Group: w.ids["g1"], Member: prompter}, true), "doesn't take such a member")
	_, err = controller.HasMember(context.Background(), server.Member{Group: w.ids["u0"], Member: prompter})
	require.ErrorContains(t, err, "the server has no such group")
	w.fs, err = w.admin.session.Mount("all")
	require.NoError(t, err)
	users := w.users
	w.worlds(filepath.Join(w.s.Dir, "all"), func() {
		w.open()
		there := w.take("quillfeather", "smb-domain", controller)
		w.here = w.take("box", w.traits, w.admin)
		w.keep(func(p *plan.Planner) (*plan.Plan, error) {
			return servers.Administrators(p, "box", []string{d.Name + `\Administrator`}, true)
		})
		w.view(func(tx *estate.Tx, k *ask.Asker) {
			for _, x := range []struct {
				who, what, at string
				in            bool
			}{
				{"u3", "Administrators", "quillfeather", true}, {"u3", "Administrators", "box", false},
				{"u4", "Administrators", "quillfeather", false}, {"u4", "Administrators", "box", true},
				{"u0", "l0", "box", true}, {"u0", "l2", "box", false}, {"u1", "l1", "box", true}, {"u1", "Backup Operators", "box", true},
				{"u1", "l3", "box", false}, {"u3", "l3", "box", false}, {"prompter", "Users", "box", false}, {"u5", "Users", "box", true},
			} {
				here := map[string]estate.Server{"box": w.here, "quillfeather": there}[x.at]
				here, err = tx.Server(here.Name) // with whose groups count there
				require.NoError(t, err)
				tok := account.NewToken(tx, w.ids[x.who], here.Traits.Traits, verdict.Special(false)...)
				require.Equal(t, x.in, tok.Has(w.ids[x.what]), "%s in %s on %s", x.who, x.what, x.at)
			}
		})
		w.users = append(slices.Clone(users), "prompter")
		w.decisions(times(10_000))
		w.users = users
	})
}

// membership makes a membership come and go: the server has it, and says where it was so already.
func membership(t *testing.T, c *Client, group, member account.ID) {
	t.Helper()
	ctx, m := context.Background(), server.Member{Group: group, Member: member}
	listed := func() bool {
		_, all, err := c.Accounts(ctx)
		require.NoError(t, err)
		return slices.Contains(all, m)
	}
	for _, in := range []bool{true, false} {
		now, err := c.HasMember(ctx, m)
		require.NoError(t, err)
		require.Equal(t, !in, now)
		require.NoError(t, c.SetMember(ctx, m, in))
		now, err = c.HasMember(ctx, m)
		require.NoError(t, err)
		require.Equal(t, in, now)
		require.Equal(t, in, listed())
		require.ErrorIs(t, c.SetMember(ctx, m, in), server.ErrChanged)
	}
}
