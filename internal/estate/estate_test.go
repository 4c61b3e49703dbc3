package estate

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"tarnwold/core/account"
	"tarnwold/core/change"
	"tarnwold/core/place"
	"tarnwold/core/right"
	"tarnwold/core/rule"
	"tarnwold/core/verdict"
	"tarnwold/internal/format"
	"tarnwold/internal/proptest"
	"tarnwold/internal/store"
)

func newEstate(t testing.TB) *Estate {
	path := filepath.Join(t.TempDir(), "t.estate")
	require.NoError(t, Create(context.Background(), path))
	e, err := Open(context.Background(), path)
	require.NoError(t, err)
	t.Cleanup(func() { e.Close() })
	return e
}

var dom = account.NewID(5, 21, 8, 8, 8)

// sheaf is a tree's rows, one by one.
type sheaf struct {
	Rows   []format.TreeRow
	Bodies []rule.Any
}

// made makes a tree of n items whose rules follow from their folder's, one in
// so many with entries of its own.
func made(n, every int) (tree sheaf) {
	r := rand.New(rand.NewPCG(uint64(n), uint64(every)))
	top := &rule.Descriptor{Owner: account.System, Group: account.System, Control: rule.RulesPresent | rule.RulesSealed, Audit: rule.Rules{Absent: true},
		Rules: rule.Rules{Entries: []rule.Entry{{Flags: 3, Rights: right.All, Who: account.System}, {Flags: 3, Rights: 0x1200a9, Who: account.Authenticated}, {Flags: 11, Rights: right.All, Who: account.Creator}}}}
	tree = sheaf{Rows: []format.TreeRow{{Folder: true, Line: 2}}, Bodies: []rule.Any{top}}
	type key struct {
		parent int32
		folder bool
		own    int
	}
	known := map[key]int32{}
	folders := []int32{0}
	for len(tree.Rows) < n {
		up := folders[max(0, len(folders)-1-r.IntN(min(len(folders), 40)))]
		folder := len(tree.Rows) < 3 || r.IntN(5) == 0
		k := key{tree.Rows[up].Body, folder, 0}
		if r.IntN(every) == 0 {
			k.own = 1 + r.IntN(5)
		}
		body, ok := known[k]
		if !ok {
			d := rule.NewChild(tree.Bodies[k.parent].Listed(), folder, account.System, account.System, nil)
			if k.own > 0 {
				flags := rule.Flags(0)
				if folder {
					flags = 3
				}
				d, _, _ = d.Give([]rule.Entry{{Flags: flags, Rights: 0x1301bf, Who: dom.Child(uint32(1000 + k.own))}}, rule.Giving{})
			}
			body = int32(len(tree.Bodies))
			tree.Bodies = append(tree.Bodies, d)
			known[k] = body
		}
		name := fmt.Sprintf("Item %d", len(tree.Rows))
		if p := tree.Rows[up].Path; p != "" {
			name = p + "/" + name
		}
		if folder {
			folders = append(folders, int32(len(tree.Rows)))
		}
		tree.Rows = append(tree.Rows, format.TreeRow{Path: name, Folder: folder, Body: body, Line: int32(len(tree.Rows) + 2)})
	}
	return tree
}

func load(t testing.TB, e *Estate, from sheaf) {
	tree, err := format.NewTree(from.Bodies, from.Rows)
	require.NoError(t, err)
	require.NoError(t, tree.Arrange())
	_, err = e.Change(context.Background(), Meta{Actor: "t", Command: "load", Head: Any, Bulk: true}, func(tx *Tx) (string, error) {
		s, ok := tx.FindServer("box")
		if !ok {
			s = tx.AddServer("box", plainTraits)
		}
		return "loaded", tx.LoadTree(s, "/srv", tree, nil)
	})
	require.NoError(t, err)
}

// whole holds an estate to all that must be true of it.
func whole(t require.TestingT, tx *Tx) {
	require.Empty(t, tx.Check(func(string) {}))
	require.NoError(t, tx.Err())
}

// bodies gives every item's rules, whatever strand it is of.
func bodies(tx *Tx) map[int64]*rule.Descriptor {
	out := map[int64]*rule.Descriptor{}
	type pair struct{ item, strand int64 }
	var all []pair
	tx.Each("SELECT id, strand FROM items", nil, func(r *sql.Rows) error {
		var p pair
		err := r.Scan(&p.item, &p.strand)
		all = append(all, p)
		return err
	})
	for _, p := range all {
		out[p.item] = tx.Of(p.strand).Listed()
	}
	return out
}

// TestPartedAndKeptIsItemByItem: however many items are meant, by however many
// edits, nested or not, what is kept is what working item by item gives.
func TestPartedAndKeptIsItemByItem(t *testing.T) {
	parts := 0
	rapid.Check(t, func(rt *rapid.T) {
		e := newEstate(t)
		tree := made(rapid.IntRange(20, 300).Draw(rt, "items"), rapid.IntRange(3, 40).Draw(rt, "every"))
		load(t, e, tree)
		for range rapid.IntRange(1, 3).Draw(rt, "times") {
			var edits []change.Edit
			for i := range rapid.IntRange(1, 3).Draw(rt, "groups") {
				entry := rule.Entry{Flags: rule.Flags(rapid.IntRange(0, 15).Draw(rt, "flags")), Rights: right.All, Who: dom.Child(uint32(5000 + i))}
				seal := rapid.IntRange(0, 4).Draw(rt, "seal") == 0
				edits = append(edits, func(d, _ rule.Any, _ bool) (rule.Any, error) {
					x := d.(*rule.Descriptor)
					if seal {
						return x.Seal(true), nil
					}
					got, _, err := x.Give([]rule.Entry{entry}, rule.Giving{})
					return got, err
				})
			}
			meant := map[int64]int{}
			for range rapid.IntRange(1, 30).Draw(rt, "meant") {
				meant[int64(rapid.IntRange(1, len(tree.Rows)).Draw(rt, "item"))] = rapid.IntRange(0, len(edits)-1).Draw(rt, "by")
			}
			var want map[int64]*rule.Descriptor
			_, err := e.Change(context.Background(), Meta{Head: Any}, func(tx *Tx) (string, error) {
				before := bodies(tx)
				want = map[int64]*rule.Descriptor{}
				groups := make([]Group, len(edits))
				for g := range edits {
					groups[g].Edit = edits[g]
				}
				var up func(id int64) *rule.Descriptor
				up = func(id int64) *rule.Descriptor {
					if d := want[id]; d != nil {
						return d
					}
					row, ok := tx.ItemRow(id)
					require.True(rt, ok)
					var d rule.Any = before[id]
					if row.Parent != 0 {
						if to := up(row.Parent); to != before[row.Parent] {
							d = d.Following(before[row.Parent], to, row.Folder)
						}
					}
					if g, ok := meant[id]; ok {
						var err error
						d, err = edits[g](d, nil, row.Folder)
						require.NoError(rt, err)
					}
					want[id] = d.(*rule.Descriptor)
					return want[id]
				}
				for id := range before {
					up(id)
				}
				for id, g := range meant {
					row, _ := tx.ItemRow(id)
					groups[g].Targets = append(groups[g].Targets, Target{id, row.Strand, row.Folder})
				}
				lay := tx.Partition
				if rapid.Bool().Draw(rt, "everything") {
					lay = tx.PartitionAll
				}
				f, err := lay(groups)
				require.NoError(rt, err)
				require.NoError(rt, f.Work(context.Background()))
				var items int64
				for i := range f.Nodes {
					items += f.Nodes[i].Items
					require.Less(rt, f.Nodes[i].Parent, i, "parents come first")
					require.NotEmpty(rt, f.Some(tx, i, 1))
					if f.nodes[i].items != nil {
						parts++
					}
				}
				require.LessOrEqual(rt, items, int64(len(tree.Rows)), "no item is in two nodes")
				for id := range meant {
					require.GreaterOrEqual(rt, f.Node(id), 0)
				}
				tx.Keep(f)
				return "kept", tx.Err()
			})
			require.NoError(rt, err)
			require.NoError(rt, e.View(context.Background(), func(tx *Tx) error {
				whole(rt, tx)
				for id, d := range bodies(tx) {
					require.True(rt, d.Equal(want[id]), "item %d", id)
				}
				return nil
			}))
		}
	})
	proptest.Reached(t, parts, 50, "strands that were parted")
}

func TestOneDescriptorIsStoredOnce(t *testing.T) {
	e := newEstate(t)
	tree := made(5000, 50)
	load(t, e, tree)
	require.NoError(t, e.View(context.Background(), func(tx *Tx) error {
		require.Equal(t, int64(5000), tx.Int("SELECT count(*) FROM items"))
		require.LessOrEqual(t, tx.Int("SELECT count(*) FROM descriptors"), int64(len(tree.Bodies)))
		whole(t, tx)
		return nil
	}))
}

func TestAChangeIsWholeOrNotAtAll(t *testing.T) {
	e := newEstate(t)
	ctx := context.Background()
	ada := account.Account{ID: dom.Child(1000), Kind: account.User, Name: "Åda", POSIX: account.NoPOSIX}
	_, err := e.Change(ctx, Meta{Actor: "a", Command: "c", Head: Any}, func(tx *Tx) (string, error) {
		tx.AddAccount(ada)
		return "", fmt.Errorf("no further")
	})
	require.EqualError(t, err, "no further")
	stopped, cancel := context.WithCancel(ctx)
	_, err = e.Change(stopped, Meta{Head: Any}, func(tx *Tx) (string, error) {
		tx.AddAccount(ada)
		cancel()
		return "added", nil
	})
	require.ErrorIs(t, err, store.ErrStopped)
	id, err := e.Change(ctx, Meta{Head: 0}, func(tx *Tx) (string, error) {
		require.Empty(t, tx.Accounts(0))
		tx.AddAccount(ada)
		return "added", tx.Err()
	})
	require.NoError(t, err)
	_, err = e.Change(ctx, Meta{Head: 0}, func(tx *Tx) (string, error) { return "late", nil })
	require.ErrorIs(t, err, ErrMoved, "worked out on an estate that is another one now")
	require.NoError(t, e.View(ctx, func(tx *Tx) error {
		rows := tx.Rows(id)
		require.Len(t, rows, 1)
		require.Nil(t, rows[0].Before)
		require.Equal(t, "Åda", rows[0].After[1])
		found, err := tx.Named("åDA", account.User)
		require.NoError(t, err)
		require.Equal(t, ada, found)
		return nil
	}))
}

// TestNamesAreKeptByteForByte: also those that are no UTF-8, and through the journal.
func TestNamesAreKeptByteForByte(t *testing.T) {
	e := newEstate(t)
	load(t, e, made(5, 3))
	ctx := context.Background()
	names := []string{"plain", "with 'quote'", "bad \xff\xfe utf8", "tab\tand\nline", `back\slash`, "ends in quote'", "日本語", "a,b'',c"}
	var ids []int64
	id, err := e.Change(ctx, Meta{Head: Any}, func(tx *Tx) (string, error) {
		top := tx.Place(tx.TopItems()[0])
		for _, n := range names {
			ids = append(ids, tx.Make(top, n, false, tx.Of(top.Strand)))
		}
		return "made", tx.Err()
	})
	require.NoError(t, err)
	require.NoError(t, e.View(ctx, func(tx *Tx) error {
		for i, n := range names {
			r, ok := tx.ItemRow(ids[i])
			require.True(t, ok)
			require.Equal(t, n, r.Name)
			c, ok := tx.Child(tx.TopItems()[0], n)
			require.True(t, ok, n)
			require.Equal(t, ids[i], c.Item)
			p, err := tx.FindText(tx.Where(ids[i]))
			require.NoError(t, err, tx.Where(ids[i]))
			require.Equal(t, ids[i], p.Item)
		}
		got := map[string]bool{}
		for _, r := range tx.RowsOf(id, "items") {
			got[store.Text(r.After, 1)] = true
		}
		for _, n := range names {
			require.True(t, got[n], n)
		}
		return nil
	}))
}

// TestManyAtATimeAreOneByOne: accounts, memberships and records put in many at a
// time leave the rows that one after the other leaves, and the journal tells the
// same of them; they go as they came.
func TestManyAtATimeAreOneByOne(t *testing.T) {
	type member struct {
		group, member account.ID
		is            Membership
	}
	dump := func(many bool) (out []string) {
		e := newEstate(t)
		var accounts []account.Account
		var members []member
		var records []Record
		for i := range 600 {
			a := account.Account{Kind: account.User, Name: fmt.Sprintf("o'%d; ä", i), ID: account.NewID(5, 21, 7, 8, 9, uint32(1000+i)), POSIX: int64(i - 1), Primary: account.GID(7)}
			if i%10 == 0 {
				a.Kind, a.Purpose, a.Primary = account.Group, account.Role, account.ID{}
			}
			accounts = append(accounts, a)
			members = append(members, member{accounts[i/10*10].ID, a.ID, Membership{Until: Day([]string{"", "2031-01-01"}[i%2]), Local: i%3 == 0}})
			records = append(records, Record{MetadataRecord, a.ID.String(), fmt.Sprintf(`{"about":"it's; %d"}`, i)})
		}
		first, err := e.Change(t.Context(), Meta{Head: Any, Large: many}, func(x *Tx) (string, error) {
			if many {
				told := append(slices.Clone(members), members[3], member{members[4].group, members[4].member, Membership{}}) // told twice
				x.AddAccounts(accounts)
				x.AddMembers(len(told), func(i int) (account.ID, account.ID, Membership) { return told[i].group, told[i].member, told[i].is })
				x.AddRecords(records)
				return "all", x.Err()
			}
			for _, a := range accounts {
				x.AddAccount(a)
				x.Gave(a.ID)
			}
			for _, m := range members {
				x.SetMember(m.group, m.member, m.is)
			}
			for _, p := range records {
				x.SetRecord(p.Kind, p.Name, p.Body)
			}
			return "all", x.Err()
		})
		require.NoError(t, err)
		second, err := e.Change(t.Context(), Meta{Head: Any}, func(x *Tx) (string, error) { // what is written down after
			x.AddAccount(account.Account{Kind: account.User, Name: "last", ID: account.NewID(5, 21, 7, 8, 9, 5000), POSIX: account.NoPOSIX})
			x.SetMember(members[7].group, members[7].member, Membership{Until: "2032-02-02"})
			x.SetRecord(records[7].Kind, records[7].Name, "{}")
			return "one", x.Err()
		})
		require.NoError(t, err)
		state := func(x *Tx) (out []string) {
			for _, q := range []string{"SELECT id||' '||kind||name||key||sid||posix||primary_group||purpose FROM accounts ORDER BY id", "SELECT id||' '||holder||' '||member||until||local FROM members ORDER BY id",
				"SELECT id||' '||kind||key||body FROM papers ORDER BY id"} {
				out = append(out, x.Strings(q)...)
			}
			return out
		}
		read := func(x *Tx) error {
			for _, change := range []int64{first, second} {
				for _, table := range []string{"accounts", "members", "papers"} {
					for _, r := range x.RowsOf(change, table) {
						out = append(out, fmt.Sprint(change, r))
					}
				}
			}
			out = append(out, state(x)...)
			out = append(out, x.Strings("SELECT domain||' '||last FROM numbers ORDER BY domain")...)
			out = append(out, x.Strings("SELECT name FROM sqlite_master WHERE type='index' ORDER BY name")...)
			out = append(out, fmt.Sprint(x.RecordChanges(MetadataRecord, records[7].Name), x.RecordChanges(MetadataRecord, records[599].Name), x.ChangesOf("members", 8), x.ChangesOf("members", 255),
				x.TouchedSince(first, "papers"), x.TouchedSince(second, "papers"), x.TouchedSince(first, "items")))
			return x.Err()
		}
		require.NoError(t, e.View(t.Context(), read))
		for _, large := range []bool{false, true} {
			require.NoError(t, e.Private(t.Context(), func(p *Estate) error {
				_, err := p.Change(t.Context(), Meta{Head: Any, Bulk: large}, func(x *Tx) (string, error) {
					x.RewindOne(second, nil)
					out = append(out, state(x)...)
					if large {
						x.Rewind(0)
					} else {
						x.RewindOne(first, nil)
					}
					require.Empty(t, state(x))
					return "back", x.Err()
				})
				return err
			}))
		}
		return out
	}
	one, many := dump(false), dump(true)
	require.Greater(t, len(one), 7000)
	require.Equal(t, one, many)
}

// TestIndexesOfManyAreMade: those of an empty table are made when all is in.
func TestIndexesOfManyAreMade(t *testing.T) {
	e := newEstate(t)
	indexes := func() (out []string) {
		require.NoError(t, e.View(t.Context(), func(x *Tx) error {
			out = x.Strings("SELECT name||coalesce(sql,'') FROM sqlite_master WHERE type='index' ORDER BY name")
			return x.Err()
		}))
		return out
	}
	before := indexes()
	const n = 12_000
	list := make([]account.Account, n)
	for i := range list {
		list[i] = account.Account{Kind: account.User, Name: fmt.Sprint("u", i), ID: account.NewID(5, 21, 7, 8, 9, uint32(1000+i)), POSIX: account.NoPOSIX}
	}
	list[0].Kind = account.Group
	for try := range 2 {
		_, err := e.Change(t.Context(), Meta{Head: Any, Large: true}, func(x *Tx) (string, error) {
			x.AddAccounts(list)
			x.AddMembers(n, func(i int) (account.ID, account.ID, Membership) { return list[0].ID, list[i].ID, Membership{} })
			if try == 0 {
				return "all", errors.New("no")
			}
			return "all", x.Err()
		})
		require.Equal(t, try == 0, err != nil)
		require.Equal(t, before, indexes())
	}
	require.NoError(t, e.View(t.Context(), func(x *Tx) error {
		require.Len(t, x.MembersOf(list[0].ID), n)
		require.Equal(t, []account.ID{list[0].ID}, x.GroupsOf(list[n-1].ID))
		return x.Err()
	}))
}

// TestPatterns holds Match to asking every item by itself.
func TestPatterns(t *testing.T) {
	e := newEstate(t)
	load(t, e, made(400, 20))
	require.NoError(t, e.View(context.Background(), func(tx *Tx) error {
		s, _ := tx.FindServer("box")
		count := func(pattern string, kinds Kinds) int {
			p, err := place.ParsePattern(pattern)
			require.NoError(t, err)
			_, got, err := tx.Match(p, kinds)
			require.NoError(t, err)
			seen := map[int64]bool{}
			for _, x := range got {
				require.False(t, seen[x.Item], "%s means an item twice", pattern)
				seen[x.Item] = true
			}
			return len(got)
		}
		all := int(tx.Int("SELECT count(*) FROM items"))
		folders := int(tx.Int("SELECT count(*) FROM items i JOIN strands s ON s.id=i.strand WHERE s.folder=1"))
		require.Equal(t, all, count("box:/srv/**", Folders|Files), "all, the base itself too")
		require.Equal(t, folders, count("box:/srv/**", Folders))
		require.Equal(t, all-folders, count("box:/srv/**", Files))
		require.Equal(t, len(tx.Within(tx.TopItems()[0])), count("box:/srv/*", Folders|Files))
		like := int(tx.Int("SELECT count(*) FROM items WHERE name LIKE 'Item %7'"))
		require.Equal(t, like, count("box:/srv/**/iTEM *7", Folders|Files))
		require.Equal(t, like, count("box:/srv/**/item*{7}", Folders|Files))
		p, err := place.ParsePattern(`box:/srv/\*`)
		require.NoError(t, err)
		_, _, err = tx.Match(p, Folders)
		var missing *NotFound
		require.ErrorAs(t, err, &missing, "an escaped sign is a letter")
		_, err = tx.At(s, "/SRV")
		require.NoError(t, err)
		return nil
	}))
}

func TestNearestNames(t *testing.T) {
	names := []string{"wardrobe", "warden", "lighting", "stage"}
	require.Equal(t, []string{"wardrobe"}, Nearest("wardrob", names))
	require.Equal(t, []string{"stage"}, Nearest("satge", names), "letters that changed places count one")
	require.Empty(t, Nearest("zzz", names))
	require.Empty(t, Nearest(strings.Repeat("x", 1<<20), names))
	rapid.Check(t, func(t *rapid.T) {
		a, b := rapid.StringN(0, 8, -1).Draw(t, "a"), rapid.StringN(0, 8, -1).Draw(t, "b")
		require.Equal(t, distance(a, b), distance(b, a))
		require.LessOrEqual(t, distance(a, b), max(len([]rune(a)), len([]rune(b))))
	})
}

// TestABitFlippedIsNoOtherAnswer: a descriptor that isn't what was stored is
// refused, not taken.
func TestABitFlippedIsNoOtherAnswer(t *testing.T) {
	e := newEstate(t)
	load(t, e, made(50, 5))
	require.NoError(t, e.Close())
	db := store.Raw(e.Path())
	_, err := db.Exec("UPDATE descriptors SET body=CAST(substr(body,1,30)||x'ff'||substr(body,32) AS BLOB) WHERE id=1")
	if err == nil {
		require.NoError(t, db.Close())
		e, err = Open(context.Background(), e.Path())
		require.NoError(t, err)
		defer e.Close()
		err = e.View(context.Background(), func(tx *Tx) error {
			tx.Descriptor(1)
			return tx.Err()
		})
	}
	require.ErrorIs(t, err, store.ErrDamaged)
}

var plainTraits = testTraits()

// bare puts the same rows in through the same driver and nothing else.
func bare(b *testing.B, tree sheaf) time.Duration {
	db, err := sql.Open("sqlite", "file:"+filepath.Join(b.TempDir(), "bare.db")+"?_pragma=synchronous(full)&_pragma=cache_size(-65536)")
	require.NoError(b, err)
	defer db.Close()
	db.SetMaxOpenConns(1)
	_, err = db.Exec("CREATE TABLE rows(path TEXT, folder INTEGER, body INTEGER)")
	require.NoError(b, err)
	start := time.Now()
	tx, err := db.Begin()
	require.NoError(b, err)
	st, err := tx.Prepare("INSERT INTO rows VALUES(?,?,?)")
	require.NoError(b, err)
	for i := range tree.Rows {
		r := &tree.Rows[i]
		_, err := st.Exec(r.Path, r.Folder, r.Body)
		require.NoError(b, err)
	}
	require.NoError(b, tx.Commit())
	return time.Since(start)
}

// BenchmarkLoad loads 1,000,000 items, and gives the time as a ratio to
// inserting the same rows bare in the same run.
func BenchmarkLoad(b *testing.B) {
	tree := made(1_000_000, 600)
	for b.Loop() {
		e := newEstate(b)
		start := time.Now()
		load(b, e, tree)
		took := time.Since(start)
		var m runtime.MemStats
		runtime.ReadMemStats(&m)
		base := bare(b, tree)
		b.ReportMetric(took.Seconds(), "s/load")
		b.ReportMetric(base.Seconds(), "s/bare")
		b.ReportMetric(took.Seconds()/base.Seconds(), "ratio")
		b.ReportMetric(float64(m.Sys)/1e6, "MB-sys")
		require.NoError(b, os.Remove(e.Path()))
	}
}

// TestWhichIsMeant: a bare name asks which where another account has it where it
// is kept, and not where one is merely called much like it.
func TestWhichIsMeant(t *testing.T) {
	e := newEstate(t)
	here, there := account.NewID(5, 21, 1, 2, 3), account.NewID(5, 21, 7, 8, 9)
	user := func(name string, id account.ID) account.Account {
		return account.Account{Kind: account.User, Name: name, ID: id, POSIX: account.NoPOSIX}
	}
	_, err := e.Change(t.Context(), Meta{Head: Any}, func(x *Tx) (string, error) {
		for _, a := range []account.Account{user("bram", here.Child(1001)), user("ines", here.Child(1002)), user("ines@house", there.Child(1002)), user("otto", here.Child(1003)),
			user("otto@else", here.Child(1004)), user("ada", here.Child(1005)), user("ada@x", there.Child(1005)), user("adam@x", there.Child(1006)), user("ada@house", here.Child(1007))} {
			x.AddAccount(a)
		}
		x.AddAccount(account.Account{Kind: account.Group, Name: "bram@x", ID: there.Child(2001), POSIX: account.NoPOSIX})
		x.SetRecord(MetadataRecord, there.Child(1005).String(), `{"called":"Ada"}`)
		x.SetRecord(MetadataRecord, there.Child(2001).String(), `{"called":"bram"}`)
		x.SetDomain(Domain{ID: there, Name: "House"})
		return "all", x.Err()
	})
	require.NoError(t, err)
	_, err = e.Change(t.Context(), Meta{Head: Any}, func(x *Tx) (string, error) {
		for word, say := range map[string]string{"bram": "user:bram or bram@x", "Ines": "user:ines or ines@house", "ADA": "user:ada or ada@x"} {
			_, err := x.Named(word, 0)
			var no *Refused
			require.ErrorAs(t, err, &no, word)
			require.Equal(t, "say which: "+say, no.Do)
			_, err = x.Who(word)
			require.Error(t, err, word)
			a, err := x.Named("user:"+word, 0)
			require.NoError(t, err)
			require.Equal(t, "user:"+a.Name, x.Name(a.ID), "as it can be said")
		}
		for _, word := range []string{"otto", "otto@else", "ada@x", "ada@house", "ines@house", `House\ines`, "adam@x"} {
			a, err := x.User(word)
			require.NoError(t, err, word)
			require.Equal(t, a.Name, x.Name(a.ID))
		}
		a, err := x.User("bram") // a group is no other user
		require.NoError(t, err)
		require.Equal(t, here.Child(1001), a.ID)
		_, err = x.Named("bram", account.Group)
		require.Error(t, err)
		// Where many are met at once, the names are the same ones.
		x.AddAccount(account.Account{Kind: account.Group, Name: "OTTO", ID: there.Child(2002), POSIX: account.NoPOSIX})
		all := func() (out []string) {
			for _, a := range x.Accounts(0) {
				out = append(out, x.Name(a.ID))
			}
			return out
		}
		few := all()
		require.Contains(t, few, "user:otto")
		x.forget()
		var ids []account.ID
		for _, a := range x.Accounts(0) {
			ids = append(ids, a.ID)
		}
		before, _ := store.Asked()
		x.ReadNames(ids)
		met, _ := store.Asked()
		require.Less(t, met-before, int64(5))
		require.Equal(t, few, all())
		return "", x.Err()
	})
	require.NoError(t, err)
}

// late is a context that is done once it was asked so many times.
type late struct {
	context.Context
	left atomic.Int64
	done chan struct{}
}

func (c *late) ask() {
	if c.left.Add(-1) == 0 {
		close(c.done)
	}
}

func (c *late) Done() <-chan struct{} { c.ask(); return c.done }

func (c *late) Err() error {
	c.ask()
	select {
	case <-c.done:
		return context.Canceled
	default:
		return nil
	}
}

// TestStoppedAnywhere: a change that is stopped, at whatever it was, says so and
// nothing else, and nothing of it is there.
func TestStoppedAnywhere(t *testing.T) {
	e := newEstate(t)
	stopped, kept := 0, 0
	head, err := e.Change(t.Context(), Meta{Head: 0}, func(x *Tx) (string, error) {
		x.AddAccount(account.Account{Kind: account.User, Name: "first", ID: account.NewID(5, 21, 7, 8, 9, 90_000), POSIX: account.NoPOSIX})
		return "first", x.Err()
	})
	require.NoError(t, err)
	for left := 1; kept < 3; left++ {
		ctx := &late{Context: context.Background(), done: make(chan struct{})}
		ctx.left.Store(int64(left))
		name := fmt.Sprint("u", left)
		id, err := e.Change(ctx, Meta{Head: head}, func(x *Tx) (string, error) {
			x.AddAccount(account.Account{Kind: account.User, Name: name, ID: account.NewID(5, 21, 7, 8, 9, uint32(left)), POSIX: account.NoPOSIX})
			return name, x.Err()
		})
		if err == nil {
			kept++
			head++
			require.Equal(t, head, id)
		} else {
			stopped++
			require.ErrorIs(t, err, store.ErrStopped, left)
		}
		require.NoError(t, e.View(t.Context(), func(x *Tx) error {
			require.Equal(t, head, x.Head())
			_, lerr := x.Named(name, 0)
			require.Equal(t, err == nil, lerr == nil)
			return x.Err()
		}))
	}
	require.Greater(t, stopped, 20)
}

// TestRewrittenHistoryIsSeen: whatever is altered of a change that was kept, be
// it its line, a row it wrote down, or that it was there at all, check tells.
func TestRewrittenHistoryIsSeen(t *testing.T) {
	ctx := context.Background()
	file := filepath.Join(t.TempDir(), "x.estate")
	require.NoError(t, Create(ctx, file))
	e, err := Open(ctx, file)
	require.NoError(t, err)
	defer func() { e.Close() }()
	for i := range 5 {
		_, err := e.Change(ctx, Meta{Actor: "warden", Head: Any, Origin: []string{"", "people"}[i%2]}, func(t *Tx) (string, error) {
			t.AddServer(fmt.Sprint("s", i), verdict.Traits{})
			return fmt.Sprint("server ", i), t.Err()
		})
		require.NoError(t, err)
	}
	require.NoError(t, e.Close())
	whole, err := os.ReadFile(file)
	require.NoError(t, err)
	e, err = Open(ctx, file)
	require.NoError(t, err)
	faults := func() (out []string) {
		require.NoError(t, e.View(ctx, func(t *Tx) error {
			for _, f := range t.Check(func(string) {}) {
				out = append(out, f.What)
			}
			return nil
		}))
		return out
	}
	require.Empty(t, faults())
	var head Proof
	require.NoError(t, e.View(ctx, func(t *Tx) error { head, _ = t.HeadProof(); return t.Err() }))
	for what, alter := range map[string]string{
		"actor":    "UPDATE journal SET actor='silas' WHERE id=2",
		"when":     "UPDATE journal SET at='2020-01-01T00:00:00Z' WHERE id=2",
		"command":  "UPDATE journal SET command='x' WHERE id=2",
		"summary":  "UPDATE journal SET summary='x' WHERE id=2",
		"forced":   "UPDATE journal SET forced='opens' WHERE id=2",
		"undoes":   "UPDATE journal SET undoes=1 WHERE id=2",
		"origin":   "UPDATE proofs SET origin='directory house' WHERE change=2",
		"row":      "UPDATE journal_rows SET after=replace(after,'s1','s9') WHERE change=2",
		"row gone": "DELETE FROM journal_rows WHERE change=2",
		"gone":     "DELETE FROM journal_rows WHERE change=2; DELETE FROM proofs WHERE change=2; DELETE FROM journal WHERE id=2",
		"proof":    "UPDATE proofs SET hash=x'00' WHERE change=2",
		"no proof": "DELETE FROM proofs WHERE change=2",
		"no line":  "DELETE FROM journal_rows WHERE change=5; DELETE FROM journal WHERE id=5",
	} {
		require.NoError(t, e.Note(ctx, func(t *Tx) error {
			for _, s := range strings.Split(alter, "; ") {
				t.Exec(s)
			}
			return t.Err()
		}), what)
		require.NotEmpty(t, faults(), what)
		require.NoError(t, e.Close())
		require.NoError(t, os.WriteFile(file, whole, 0o600))
		e, err = Open(ctx, file)
		require.NoError(t, err)
	}
	// The whole chain made anew is seen by the proof that was kept elsewhere alone.
	require.NoError(t, e.Note(ctx, func(t *Tx) error {
		t.Exec("UPDATE journal SET actor='silas' WHERE id=2")
		origins := map[int64]string{}
		for c := int64(1); c <= 5; c++ {
			origins[c] = t.Origin(c)
		}
		t.Exec("DELETE FROM proofs")
		for c := int64(1); c <= 5; c++ {
			t.Prove(c, origins[c])
		}
		return t.Err()
	}))
	require.Empty(t, faults())
	require.NoError(t, e.View(ctx, func(tx *Tx) error {
		_, ok := tx.ProofOf(head.Hash)
		require.False(t, ok)
		return tx.Err()
	}))
}
