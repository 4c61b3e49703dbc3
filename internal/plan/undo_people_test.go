package plan_test

import (
	"errors"
	"fmt"
	"slices"
	"testing"

	"github.com/stretchr/testify/require"

	acc "tarnwold/core/account"
	"tarnwold/internal/estate"
	"tarnwold/internal/estate/edit"
	"tarnwold/internal/format"
	"tarnwold/internal/plan"
	"tarnwold/internal/plan/people"
	"tarnwold/internal/plan/undo"
)

// TestALargeGroupIsTakenBack: a group that came with more members than are
// listed goes with them; not once somebody else is in it, and that one is named.
func TestALargeGroupIsTakenBack(t *testing.T) {
	for _, limits := range [][3]int{{2, 3, 2}, {64, 10_000, 10_000}} { // many at a time, and one by one
		edit.Enough, plan.ManyPeople, edit.Masses = limits[0], limits[1], limits[2]
		file := t.TempDir() + "/x.estate"
		require.NoError(t, estate.Create(ctx, file))
		e, err := estate.Open(ctx, file)
		require.NoError(t, err)
		defer e.Close()
		keep := func(fn func(d *plan.Planner) (*plan.Plan, error)) (id int64, err error) {
			var p *plan.Plan
			if verr := e.View(ctx, func(x *estate.Tx) error { p, err = fn(plan.New(x, "outsider")); return nil }); verr != nil || err != nil {
				return 0, errors.Join(verr, err)
			}
			return e.Change(ctx, p.Meta("test"), p.Keep)
		}
		state := func() (out []string) {
			require.NoError(t, e.View(ctx, func(x *estate.Tx) error {
				x.EachAccount(func(row int64, a acc.Account) { out = append(out, fmt.Sprint(row, a)) })
				x.EachMembership(func(r estate.Row) { out = append(out, fmt.Sprint(r)) })
				return x.Err()
			}))
			slices.Sort(out) // memberships that come back have another row
			return out
		}
		row := func(kind acc.Kind, name string, rid uint32) format.AccountRow {
			return format.AccountRow{PrimaryGID: acc.NoPOSIX, Account: acc.Account{Kind: kind, Name: name, ID: dom.Child(rid), POSIX: acc.NoPOSIX}}
		}
		f := people.AccountFile{Accounts: []format.AccountRow{row(acc.Group, "all", 5000), row(acc.Group, "above", 5001)}, Members: format.MembershipsOf(format.MemberRow{Group: "above", Member: "group:all"})}
		for i := range 150 {
			name := fmt.Sprint("u", i)
			f.Accounts = append(f.Accounts, row(acc.User, name, uint32(1000+i)))
			f.Members.Add(format.MemberRow{Group: "all", Member: "user:" + name})
		}
		load, err := keep(func(d *plan.Planner) (*plan.Plan, error) {
			p, _, err := people.LoadAccounts(d, []people.AccountFile{f})
			return p, err
		})
		require.NoError(t, err)
		before := state()
		require.Len(t, before, 2+150+151)
		_, err = keep(func(d *plan.Planner) (*plan.Plan, error) { return undo.Undo(d, load, false) })
		require.NoError(t, err)
		require.Empty(t, state())
		_, err = keep(func(d *plan.Planner) (*plan.Plan, error) { return undo.Redo(d, load, false) })
		require.NoError(t, err)
		require.Len(t, state(), len(before))
		_, err = keep(func(d *plan.Planner) (*plan.Plan, error) {
			return people.AddAccounts(d, []string{"later"}, people.NewAccount{Kind: acc.User, POSIX: acc.NoPOSIX})
		})
		require.NoError(t, err)
		_, err = keep(func(d *plan.Planner) (*plan.Plan, error) { return people.Join(d, "all", []string{"later"}, "") })
		require.NoError(t, err)
		_, err = keep(func(d *plan.Planner) (*plan.Plan, error) { return undo.Undo(d, load, true) })
		require.EqualError(t, err, "group all is still named by\n  group all (lists later)\nrevoke, hand on or leave those first")
	}
	edit.Enough, plan.ManyPeople, edit.Masses = 2, 3, 2
}
