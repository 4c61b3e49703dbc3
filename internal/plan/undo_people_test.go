package plan

import (
	"errors"
	"fmt"
	"slices"
	"testing"

	"github.com/stretchr/testify/require"

	acc "tarnwold/core/account"
	"tarnwold/internal/estate"
	"tarnwold/internal/format"
)

// TestALargeGroupIsTakenBack: a group that came with more members than are
// listed goes with them; not once somebody else is in it, and that one is named.
func TestALargeGroupIsTakenBack(t *testing.T) {
	for _, limits := range [][3]int{{2, 3, 2}, {64, 10_000, 10_000}} { // many at a time, and one by one
		enough, manyPeople, masses = limits[0], limits[1], limits[2]
		file := t.TempDir() + "/x.estate"
		require.NoError(t, estate.Create(ctx, file))
		e, err := estate.Open(ctx, file)
		require.NoError(t, err)
		defer e.Close()
		keep := func(fn func(d *Desk) (*Plan, error)) (id int64, err error) {
			var p *Plan
			if verr := e.View(ctx, func(x *estate.Tx) error { p, err = fn(New(x, "outsider")); return nil }); verr != nil || err != nil {
				return 0, errors.Join(verr, err)
			}
			return e.Change(ctx, p.Meta("test"), p.Keep)
		}
		state := func() (out []string) {
			require.NoError(t, e.View(ctx, func(x *estate.Tx) error {
				x.EachAccount(func(row int64, a account) { out = append(out, fmt.Sprint(row, a)) })
				x.EachMembership(func(r estate.Row) { out = append(out, fmt.Sprint(r)) })
				return x.Err()
			}))
			slices.Sort(out) // memberships that come back have another row
			return out
		}
		row := func(kind acc.Kind, name string, rid uint32) format.AccountRow {
			return format.AccountRow{PrimaryGID: acc.NoPOSIX, Account: account{Kind: kind, Name: name, ID: dom.Child(rid), POSIX: acc.NoPOSIX}}
		}
		f := AccountFile{Accounts: []format.AccountRow{row(acc.Group, "all", 5000), row(acc.Group, "above", 5001)}, Members: []format.MemberRow{{Group: "above", Member: "group:all"}}}
		for i := range 150 {
			name := fmt.Sprint("u", i)
			f.Accounts = append(f.Accounts, row(acc.User, name, uint32(1000+i)))
			f.Members = append(f.Members, format.MemberRow{Group: "all", Member: "user:" + name})
		}
		load, err := keep(func(d *Desk) (*Plan, error) { p, _, err := d.LoadAccounts([]AccountFile{f}); return p, err })
		require.NoError(t, err)
		before := state()
		require.Len(t, before, 2+150+151)
		_, err = keep(func(d *Desk) (*Plan, error) { return d.Undo(load, false) })
		require.NoError(t, err)
		require.Empty(t, state())
		_, err = keep(func(d *Desk) (*Plan, error) { return d.Redo(load, false) })
		require.NoError(t, err)
		require.Len(t, state(), len(before))
		_, err = keep(func(d *Desk) (*Plan, error) {
			return d.AddAccounts([]string{"later"}, NewAccount{Kind: acc.User, POSIX: acc.NoPOSIX})
		})
		require.NoError(t, err)
		_, err = keep(func(d *Desk) (*Plan, error) { return d.Join("all", []string{"later"}, "") })
		require.NoError(t, err)
		_, err = keep(func(d *Desk) (*Plan, error) { return d.Undo(load, true) })
		require.EqualError(t, err, "group all is still named by\n  group all (lists later)\nrevoke, hand on or leave those first")
	}
	enough, manyPeople, masses = 2, 3, 2
}
