package plan_test

import (
	"fmt"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	acc "tarnwold/core/account"
	"tarnwold/core/right"
	"tarnwold/core/verdict"
	"tarnwold/internal/ask"
	"tarnwold/internal/ask/expect"
	"tarnwold/internal/ask/explain"
	"tarnwold/internal/estate"
	"tarnwold/internal/proptest"
)

// TestExpectationsAreEachUserTried: an expectation holds, or counts who goes
// against it, as trying each user on each item by each route says.
func TestExpectationsAreEachUserTried(t *testing.T) {
	met := map[string]int{}
	rapid.Check(t, func(rt *rapid.T) {
		w := worlds(t, rt)
		require.NoError(rt, w.e.View(ctx, func(tx *estate.Tx) error {
			k := ask.New(tx)
			x := expect.NewExpecting(k)
			var items []int64
			for _, top := range tx.TopItems() {
				items = append(items, tx.Subtree(top, 10_000)...)
			}
			if len(items) == 0 {
				return nil
			}
			names := []string{"network@", "authenticated@"}
			for _, kind := range []acc.Kind{acc.User, acc.Group} {
				for _, a := range tx.Accounts(kind) {
					names = append(names, kind.String()+":"+a.Name)
				}
			}
			for i := range 40 {
				p := tx.Place(rapid.SampledFrom(items).Draw(rt, "where"))
				through := k.Through(p)
				e := &expect.Expectation{Line: i + 1, Where: p.String(), Below: rapid.Bool().Draw(rt, "below"),
					What: rapid.SampledFrom([]string{"read", "edit", "list", "add", "full", "read-acl,delete", "create", "make-folder", "rename", "delete", "save", "rename-by-attributes", "change-rules"}).Draw(rt, "what")}
				if len(through) > 0 {
					sh := rapid.SampledFrom(through).Draw(rt, "share")
					if rapid.Bool().Draw(rt, "by-share") {
						e.Where = p.By(&sh).String()
					}
					if rapid.IntRange(0, 3).Draw(rt, "narrowed") == 0 {
						e.Through = sh.Address()
					}
				}
				e.Local = e.Through == "" && rapid.IntRange(0, 3).Draw(rt, "local") == 0
				switch rapid.IntRange(0, 3).Draw(rt, "whose") {
				case 0:
					e.Everyone, e.Cannot = true, rapid.Bool().Draw(rt, "cannot")
				case 1:
					e.Named, e.Cannot = true, rapid.Bool().Draw(rt, "cannot")
				case 2:
					e.Named, e.Others = true, true
				case 3:
					e.Others = true
				}
				if !e.Everyone {
					e.Names = rapid.SliceOfN(rapid.SampledFrom(names), 1, 3).Draw(rt, "names")
				}
				got, err := x.Expect(e)
				require.NoError(rt, err)
				want, fits := oneByOne(rt, tx, k, e)
				if got.Error != "" {
					require.False(rt, fits, "%+v: %s", e, got.Error)
					continue
				}
				require.Equal(rt, len(want.users) == 0, got.Holds, "%+v: %+v", e, got.Against)
				word := fmt.Sprint(got.Holds, e.Everyone, e.Named, e.Others, e.Cannot, e.Below)
				met[word]++
				met[fmt.Sprint(e.What, " ", got.Holds)]++
				if a := got.Against; a != nil {
					require.Equal(rt, len(want.users), a.Users, "%+v", e)
					require.Equal(rt, want.items, a.Items, "%+v", e)
					require.True(rt, want.users[a.User.Name], "%+v", e)
					require.True(rt, want.at[a.User.Name+" "+a.Where], "%+v: %+v", e, a)
				}
			}
			return tx.Err()
		}))
	})
	for _, holds := range []string{"true ", "false "} {
		for _, kind := range []string{"true false false false", "true false false true", "false true false false", "false true false true", "false true true false", "false false true false"} {
			for _, below := range []string{" true", " false"} {
				proptest.Reached(t, met[holds+kind+below], 3, holds+kind+below)
			}
		}
	}
	for _, what := range []string{"read", "create", "rename", "rename-by-attributes", "delete", "read-acl,delete"} {
		proptest.Reached(t, met[what+" true"], 10, what)
		proptest.Reached(t, met[what+" false"], 10, what+" not")
	}
}

type goingAgainst struct {
	users map[string]bool
	at    map[string]bool
	items int64
}

// TestWrittenExpectationsHold: what is written of an estate as it stands holds,
// by trying each user, and by asking it.
func TestWrittenExpectationsHold(t *testing.T) {
	met := map[string]int{}
	rapid.Check(t, func(rt *rapid.T) {
		w := worlds(t, rt)
		require.NoError(rt, w.e.View(ctx, func(tx *estate.Tx) error {
			k := ask.New(tx)
			for _, top := range tx.TopItems() {
				p := tx.Place(top)
				if !p.Folder {
					continue
				}
				wheres := []string{p.String()}
				for _, sh := range k.Through(p) {
					wheres = append(wheres, p.By(&sh).String())
				}
				for _, where := range wheres {
					depth := rapid.IntRange(0, 3).Draw(rt, "depth")
					list, err := expect.Expectable(k, where, depth)
					require.NoError(rt, err)
					require.GreaterOrEqual(rt, len(list), 3)
					for i := range list {
						e := &list[i]
						got, err := expect.NewExpecting(k).Expect(e)
						require.NoError(rt, err)
						require.True(rt, got.Holds, "%+v: %s %+v", e, got.Error, got.Against)
						against, fits := oneByOne(rt, tx, k, e)
						require.True(rt, fits)
						require.Empty(rt, against.users, "%+v", e)
						met[fmt.Sprint(e.Everyone, e.Named, e.Others)]++
						met[fmt.Sprint("below ", e.Below)]++
						if e.Where != where {
							met["in it"]++
						}
					}
				}
			}
			return tx.Err()
		}))
	})
	for _, kind := range []string{"true false false", "false true false", "false false true", "false true true", "below true", "below false", "in it"} {
		proptest.Reached(t, met[kind], 3, kind)
	}
}

// oneByOne tries each user on each item by each route an expectation is about;
// fits is whether what it asks for speaks of the item.
func oneByOne(rt *rapid.T, tx *estate.Tx, k *ask.Asker, e *expect.Expectation) (out goingAgainst, fits bool) {
	out = goingAgainst{users: map[string]bool{}, at: map[string]bool{}}
	p, err := tx.FindText(e.Where)
	require.NoError(rt, err)
	act, isAct := verdict.ActNamed(e.What)
	var level right.Level
	if e.What == "list" || e.What == "read" {
		isAct = false
	}
	if !isAct {
		level, err = k.Level(e.What)
		require.NoError(rt, err)
	}
	speaks := func(folder bool) bool {
		if !isAct {
			return folder && level.Folder != 0 || !folder && level.File != 0
		}
		switch act.Takes {
		case verdict.File:
			return !folder
		case verdict.Either:
			return true
		}
		return folder
	}
	can := func(u acc.Account, at estate.Place, sh *estate.Share) bool {
		if !isAct {
			var n uint32
			_, err := fmt.Sscanf(explain.Answer(k, u, at, sh, true).Granted, "0x%x", &n)
			require.NoError(rt, err)
			return right.Set(n).Has(ask.AskedOf(level, k.Tx().Of(at.Strand), at.Folder))
		}
		at.Share = sh
		where, to := at.Via(), ""
		switch e.What {
		case "create", "make-folder":
			where += "/something new"
		case "rename", "rename-by-attributes":
			to = "another name"
		}
		x, err := explain.Try(k, u.Name, e.What, where, to, true)
		return err == nil && x.Allowed
	}
	items := []int64{p.Item}
	if e.Below && p.Folder {
		items = tx.Subtree(p.Item, 10_000)
	}
	for _, named := range []bool{true, false} { // those it names, and the others
		if named && !e.Named && !e.Everyone || !named && !e.Others {
			continue
		}
		for _, item := range items {
			at := tx.Place(item)
			if !speaks(at.Folder) {
				continue
			}
			fits = true
			routes := []*estate.Share{}
			for _, sh := range k.Through(at) {
				routes = append(routes, &sh)
			}
			routes = append(routes, nil)
			for _, sh := range routes {
				switch {
				case e.Local && sh != nil, e.Through != "" && (sh == nil || sh.Address() != e.Through):
					continue
				case !e.Local && e.Through == "" && named && p.Share != nil && (sh == nil || sh.ID != p.Share.ID):
					continue
				}
				bad := false
				for _, u := range tx.Accounts(acc.User) {
					about := e.Everyone
					tok := acc.NewToken(tx, u.ID, at.Server.Traits.Traits, verdict.Special(sh == nil)...)
					for _, n := range e.Names {
						id, err := tx.Who(n)
						if err != nil {
							var a acc.Account
							a, err = tx.Named(n, 0)
							id = a.ID
						}
						require.NoError(rt, err)
						about = about || tok.Has(id)
					}
					should := named && !e.Cannot
					if about != named || can(u, at, sh) == should {
						continue
					}
					bad = true
					out.users[u.Name] = true
					out.at[u.Name+" "+at.By(sh).String()] = true
				}
				if bad {
					out.items++
				}
			}
		}
	}
	return out, fits
}
