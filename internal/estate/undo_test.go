package estate

import (
	"context"
	"fmt"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"tarnwold/core/account"
	"tarnwold/core/right"
	"tarnwold/core/rule"
	"tarnwold/internal/format"
)

// dump writes down all that an estate says, however it is stored.
func dump(tx *Tx) (out []string) {
	for _, id := range tx.ints("SELECT id FROM items ORDER BY id") {
		p := tx.Place(id)
		var body []byte
		tx.one("SELECT body FROM descriptors d JOIN strands s ON s.descriptor=d.id WHERE s.id=?", []any{p.Strand}, &body)
		out = append(out, fmt.Sprintf("%d %s %v %x", id, p, p.Folder, body))
	}
	for _, q := range []string{
		"SELECT name||kind||sid||posix||main||purpose FROM accounts ORDER BY id",
		"SELECT holder||' '||member||until FROM members ORDER BY id",
		"SELECT name||folder||read_only||descriptor FROM shares ORDER BY id",
		"SELECT item||entry||until FROM deadlines ORDER BY item, entry, until",
		"SELECT name FROM levels ORDER BY id",
	} {
		out = append(out, tx.strings(q)...)
	}
	return out
}

// anyStep makes one change of any kind; what can't be done is left out.
func anyStep(t *rapid.T, tx *Tx, users []account.Account, groups []account.Account) {
	items := tx.ints("SELECT id FROM items ORDER BY id")
	pick := func(name string) Place { return tx.Place(rapid.SampledFrom(items).Draw(t, name)) }
	edit := func(p Place, renew bool, fn func(d, parent *rule.Descriptor, folder bool) (*rule.Descriptor, error)) {
		strand := tx.Isolate(p.Item)
		f := tx.Below(strand)
		f.Renew = renew
		f.Edits[f.Node(strand)] = fn
		if f.Work() == nil {
			tx.Keep(f)
		}
	}
	who := rapid.SampledFrom(append(append([]account.Account(nil), users...), groups...)).Draw(t, "who")
	switch rapid.IntRange(0, 9).Draw(t, "step") {
	case 0, 1, 2:
		e := rule.Entry{Kind: rapid.SampledFrom([]rule.Kind{rule.Allow, rule.Deny}).Draw(t, "kind"), Flags: rule.Flags(rapid.IntRange(0, 15).Draw(t, "flags")), Rights: right.All, Who: who.ID}
		p := pick("at")
		edit(p, false, func(d, _ *rule.Descriptor, _ bool) (*rule.Descriptor, error) { return d.Give([]rule.Entry{e}, 0) })
		tx.SetDeadline(p.Item, []rule.Entry{e}, "2027-01-01")
	case 3:
		edit(pick("at"), false, func(d, _ *rule.Descriptor, folder bool) (*rule.Descriptor, error) {
			return d.Take(rule.Which{Who: who.ID}, folder), nil
		})
	case 4:
		edit(pick("at"), false, func(d, _ *rule.Descriptor, _ bool) (*rule.Descriptor, error) {
			return d.Seal(rapid.Bool().Draw(t, "keep")), nil
		})
	case 5:
		edit(pick("at"), true, func(d, parent *rule.Descriptor, folder bool) (*rule.Descriptor, error) {
			if parent == nil {
				return d, nil
			}
			return d.Unseal(parent, folder, rapid.Bool().Draw(t, "clear")), nil
		})
	case 6:
		edit(pick("at"), false, func(d, _ *rule.Descriptor, _ bool) (*rule.Descriptor, error) { return d.OwnedBy(who.ID), nil })
	case 7:
		_, _ = tx.Move(pick("from"), pick("to"), fmt.Sprintf("moved %d", tx.change))
	case 8:
		_, _ = tx.Put(pick("in"), fmt.Sprintf("new %d", tx.change), rapid.Bool().Draw(t, "folder"), tx.Of(pick("like").Strand))
	case 9:
		_ = tx.Join(rapid.SampledFrom(groups).Draw(t, "group"), who, "")
	}
}

func TestUndoOfAnySequenceGivesBackTheStart(t *testing.T) {
	ctx := context.Background()
	rapid.Check(t, func(rt *rapid.T) {
		e := newEstate(t)
		tree := &format.Tree{Rows: made(rapid.IntRange(5, 40).Draw(rt, "items"), 1).Rows}
		top := &rule.Descriptor{Owner: account.System, Group: account.System, Control: rule.RulesPresent, Audit: rule.Rules{Absent: true},
			Rules: rule.Rules{Entries: []rule.Entry{{Flags: 3, Rights: 0x1200a9, Who: account.Everyone}, {Flags: 11, Rights: right.All, Who: account.Creator}}}}
		folder := rule.NewChild(top, true, account.System, account.System, nil)
		file := rule.NewChild(folder, false, account.System, account.System, nil)
		tree.Bodies = []*rule.Descriptor{top, folder, file}
		for i := range tree.Rows[1:] {
			tree.Rows[i+1].Body = 2
			if tree.Rows[i+1].Folder {
				tree.Rows[i+1].Body = 1
			}
		}
		load(t, e, tree)
		var users, groups []account.Account
		_, err := e.Change(ctx, Meta{}, true, func(tx *Tx) (string, error) {
			for i := range 3 {
				u, err := tx.AddAccount(account.Account{Kind: account.User, Name: fmt.Sprint("u", i), POSIX: account.NoPOSIX})
				require.NoError(rt, err)
				g, err := tx.AddAccount(account.Account{Kind: account.Group, Name: fmt.Sprint("g", i), POSIX: account.NoPOSIX})
				require.NoError(rt, err)
				users, groups = append(users, u), append(groups, g)
			}
			return "people", tx.Err()
		})
		require.NoError(rt, err)
		look := func() (all []string) {
			require.NoError(rt, e.View(ctx, func(tx *Tx) error { check(rt, tx); all = dump(tx); return tx.Err() }))
			return all
		}
		states := [][]string{look()}
		var changes []int64
		for range rapid.IntRange(1, 8).Draw(rt, "steps") {
			id, err := e.Change(ctx, Meta{}, true, func(tx *Tx) (string, error) {
				anyStep(rt, tx, users, groups)
				return "step", tx.Err()
			})
			require.NoError(rt, err)
			var rows int
			require.NoError(rt, e.View(ctx, func(tx *Tx) error { rows = len(tx.Rows(id)); return nil }))
			if rows == 0 {
				continue
			}
			changes, states = append(changes, id), append(states, look())
		}
		undo := func(id int64) int64 {
			u, err := e.Change(ctx, Meta{}, true, func(tx *Tx) (string, error) {
				tx.SetUndoes(id)
				over, err := tx.Undo(id, false)
				require.False(rt, over)
				return "undo", err
			})
			require.NoError(rt, err)
			return u
		}
		var undone []int64
		for i := len(changes) - 1; i >= 0; i-- {
			undone = append(undone, undo(changes[i]))
			require.Equal(rt, states[i], look(), "after undoing change %d", changes[i])
		}
		for i := len(undone) - 1; i >= 0; i-- {
			undo(undone[i])
			require.Equal(rt, states[len(undone)-i], look(), "after doing change %d again", changes[len(undone)-1-i])
		}
	})
}
