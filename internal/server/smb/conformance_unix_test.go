//go:build unix

package smb

import (
	"cmp"
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"maps"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"testing"
	"time"

	smb2 "github.com/cloudsoda/go-smb2"
	"github.com/stretchr/testify/require"

	"tarnwold/core/account"
	"tarnwold/core/place"
	"tarnwold/core/right"
	"tarnwold/core/rule"
	"tarnwold/core/rule/secdesc"
	"tarnwold/core/verdict"
	"tarnwold/internal/ask"
	"tarnwold/internal/ask/explain"
	"tarnwold/internal/estate"
	"tarnwold/internal/format"
	"tarnwold/internal/format/passwd"
	"tarnwold/internal/format/smbconf"
	"tarnwold/internal/live"
	"tarnwold/internal/plan"
	"tarnwold/internal/plan/intake"
	"tarnwold/internal/plan/people"
	"tarnwold/internal/plan/servers"
	"tarnwold/internal/proptest"
	"tarnwold/internal/server"
	"tarnwold/internal/server/smb/smbtest"
)

// These tests hold answers to a real server: trees, rules, shares and groups
// are drawn from a fixed seed, read by a scan, and every answer is held to what
// the server does. The short run asks a tenth of it, TARNWOLD_LONG
// ten times as much.

func times(n int) int {
	switch {
	case os.Getenv("TARNWOLD_LONG") != "":
		return n * 10
	case proptest.Short():
		return n / 10
	}
	return n
}

func seed(t *testing.T) *rand.Rand {
	n := uint64(20261125)
	if s := os.Getenv("TARNWOLD_SEED"); s != "" {
		v, err := strconv.ParseUint(s, 10, 64)
		require.NoError(t, err)
		n = v
	}
	t.Logf("seed %d", n)
	return rand.New(rand.NewPCG(n, n))
}

// trial is a real server with a drawn world on it, and an estate that has read it.
type trial struct {
	t     testing.TB
	s     *smbtest.Server
	r     *rand.Rand
	link  Link
	admin *Client
	fs    *smb2.Share // of all
	users []string
	ids   map[string]account.ID
	e     *estate.Estate
	here  estate.Server
	exact map[string]*Exact
	mild  bool // so that more is allowed

	traits   string
	more     []account.ID // that entries name too
	password func(user string) string
	domains  map[string]string // of users whose domain isn't that of the link
}

var trialShares = map[string]string{"all": "", "within": "path = all/f0", "switched": "path = all\nread only = yes", "odd0": "path = all", "odd1": "path = all",
	"odd2": "path = all/f1", "odd3": "path = all", "odd4": "path = all", "odd5": "path = all/f0"}

func newTrial(t *testing.T, r *rand.Rand, items int, mild bool) *trial {
	return newTrialOf(t, r, items, mild, nil, nil)
}

// newTrialOf has built-in groups, and before its tree is made something is done.
func newTrialOf(t *testing.T, r *rand.Rand, items int, mild bool, built []string, first func(w *trial)) *trial {
	c := smbtest.Config{Users: []string{"warden"}, Groups: map[string][]string{}, Nested: map[string][]string{}, Shares: maps.Clone(trialShares)}
	c.Shares["switched"] = "read only = yes\npath = all"
	for name, lines := range map[string]string{"listed": "valid users = u0 @g1 +n0", "barred": "invalid users = u1, @g2", "both": "valid users = @g0 u2\ninvalid users = u2",
		"readers": "read list = u0 @n1", "writers": "read only = yes\nwrite list = u1 @g3", "mixed": "read list = u0 u1\nwrite list = u1",
		"bosses": "admin users = u3 @g4", "as": "force user = u4", "asfew": "force user = u4\nvalid users = u0 u1\nread list = u1\nadmin users = u0",
		"with": "force group = g1", "withplus": "force group = +g2", "ruled": "force user = u5"} {
		c.Shares[name] = lines + "\npath = all"
	}
	for i := range 6 {
		c.Users = append(c.Users, fmt.Sprint("u", i))
	}
	for i := range 5 {
		g := fmt.Sprint("g", i)
		for _, u := range c.Users[1:] {
			if r.IntN(3) == 0 {
				c.Groups[g] = append(c.Groups[g], u)
			}
		}
		if c.Groups[g] == nil {
			c.Groups[g] = []string{c.Users[1+i]}
		}
	}
	c.Nested["n0"], c.Nested["n1"], c.Nested["n2"] = []string{"g0", "g1"}, []string{"n0"}, []string{"g2", "n1"}
	w := &trial{t: t, r: r, users: c.Users[1:], ids: map[string]account.ID{}, exact: map[string]*Exact{}, mild: mild, traits: "smb", password: smbtest.Password}
	if c.Built = built; built != nil {
		c.Global = "idmap config * : backend = tdb\nidmap config * : range = 3000000-3999999\n"
		c.Rights = map[string][]string{"u5": {"SeTakeOwnershipPrivilege"}}
	}
	w.s = smbtest.Start(t, c)
	w.link = Link{Host: "127.0.0.1", Port: w.s.Port, User: "warden"}
	w.admin = dial(t, w.s, "warden")
	w.names()
	if first != nil {
		first(w)
	}
	var err error
	w.fs, err = w.admin.session.Mount("all")
	require.NoError(t, err)
	w.grow(items)
	w.oddShares()
	w.scan()
	return w
}

// names learns the identifiers of the server's accounts.
func (w *trial) names() {
	w.ids = map[string]account.ID{}
	all, _, err := w.admin.Accounts(context.Background())
	require.NoError(w.t, err)
	for _, a := range all {
		w.ids[a.Name] = a.ID
	}
}

// grow makes a tree, and gives items drawn rules before, between and after.
func (w *trial) grow(items int) {
	w.give("", w.rules(true))
	folders := []string{""}
	var rest []string
	for i := range items {
		up := folders[w.r.IntN(len(folders))]
		if i < 3 {
			up = ""
		}
		name := []string{"f%d", "Übung %d", "%d. Akt", "very long name that goes on and on for a while %d", "e\u0301t\u00e9 %d"}[w.r.IntN(5)]
		if i < 3 {
			name = "f%d"
		}
		path := strings.TrimPrefix(up+"/"+fmt.Sprintf(name, i), "/")
		native := strings.ReplaceAll(path, "/", `\`)
		folder := i < 3 || w.r.IntN(2) == 0
		if folder {
			require.NoError(w.t, w.fs.Mkdir(native, 0o777))
			folders = append(folders, path)
		} else {
			require.NoError(w.t, w.fs.WriteFile(native, []byte("x"), 0o666))
		}
		switch w.r.IntN(4) {
		case 0:
			w.give(path, w.rules(folder))
		case 1:
			rest = append(rest, path)
		}
	}
	for _, path := range rest { // what is below keeps what it inherited: it is stale
		w.give(path, w.rules(true))
	}
}

// worlds does something on a tree of the seed, and on three more that stand in its place.
func (w *trial) worlds(folder string, each func()) {
	for n := range 4 {
		if n > 0 {
			w.r = rand.New(rand.NewPCG(uint64(n), w.r.Uint64()))
			for _, x := range w.exact { // a share's rules were asked when they connected
				x.Close()
			}
			clear(w.exact)
			old, err := os.ReadDir(folder)
			require.NoError(w.t, err)
			for _, x := range old {
				require.NoError(w.t, os.RemoveAll(filepath.Join(folder, x.Name())))
			}
		}
		w.grow(160)
		w.oddShares()
		each()
	}
}

// who draws an identifier that entries name.
func (w *trial) who() account.ID {
	special := []account.ID{account.Everyone, account.Authenticated, account.Network, account.Interactive, account.Creator, account.CreatorGroup, account.OwnerRights,
		account.UID(4002), account.GID(5000), account.GID(5001), account.NewID(5, 21, 9, 9, 9, 1234), account.System}
	if w.domains != nil { // which numbers a member gives the domain's people is its configuration's
		special = slices.DeleteFunc(special, func(id account.ID) bool { _, _, posix := id.POSIX(); return posix })
	}
	special = append(special, w.more...)
	switch w.r.IntN(5) {
	case 0:
		return special[w.r.IntN(len(special))]
	case 1, 2:
		return w.ids[w.users[w.r.IntN(len(w.users))]]
	}
	if _, ok := w.ids["g0"]; !ok {
		return account.Everyone
	}
	return w.ids[[]string{"g0", "g1", "g2", "g3", "g4", "n0", "n1", "n2"}[w.r.IntN(8)]]
}

// rules draws a descriptor: every scope, refusals, generic rights, object
// entries, lists out of order, empty, absent, owners of every kind.
func (w *trial) rules(folder bool) *rule.Descriptor {
	d := &rule.Descriptor{Control: rule.RulesPresent, Audit: rule.Rules{Absent: true}}
	owners := []account.ID{w.ids["warden"], w.ids[w.users[0]], w.ids[w.users[1]], w.ids[w.users[len(w.users)-1]], w.ids["g0"]}
	if owners[4].IsZero() {
		owners[4] = owners[0]
	}
	d.Owner = owners[w.r.IntN(len(owners))]
	if w.r.IntN(3) == 0 {
		d.Control |= rule.RulesSealed
	}
	if w.r.IntN(2) == 0 {
		d.Control |= rule.RulesFollow
	}
	switch w.r.IntN(24) {
	case 0: // empty
		return d
	case 1:
		d.Rules.Absent = true
		return d
	}
	masks := []right.Set{right.All, 0x1200a9, 0x1301bf, 0x120089, 0x120116, right.GenericAll, right.GenericRead, right.GenericWrite, right.GenericExecute, 0}
	n := 1 + w.r.IntN(7)
	if w.r.IntN(30) == 0 {
		n = 80
	}
	if w.mild && w.r.IntN(2) == 0 {
		d.Rules.Entries = append(d.Rules.Entries, rule.Entry{Kind: rule.Allow, Flags: 3, Who: w.who(), Rights: right.All})
	}
	for range n {
		e := rule.Entry{Kind: rule.Allow, Who: w.who(), Rights: masks[w.r.IntN(len(masks))]}
		if w.r.IntN(2) == 0 {
			e.Rights = right.At(w.r.IntN(right.Count))
		}
		if w.r.IntN(5) == 0 {
			e.Kind = rule.Deny
		}
		if folder {
			e.Flags = rule.Flags(w.r.IntN(16))
		}
		if w.r.IntN(40) == 0 {
			e.Kind = []rule.Kind{rule.AllowObject, rule.DenyObject}[w.r.IntN(2)]
			e.Extra.Object = "\x00\x00\x00\x00"
		}
		d.Rules.Entries = append(d.Rules.Entries, e)
	}
	if w.r.IntN(2) == 0 { // canonical order; else as drawn
		slices.SortStableFunc(d.Rules.Entries, func(a, b rule.Entry) int {
			rank := func(e rule.Entry) int {
				if e.Kind.Refuses() {
					return 0
				}
				return 1
			}
			return rank(a) - rank(b)
		})
	}
	return d
}

func (w *trial) give(path string, d *rule.Descriptor) {
	d = d.Clone()
	if d.Control&rule.RulesFollow != 0 {
		d.Control |= rule.RulesInheritAsked
	}
	b, err := secdesc.Encode(d)
	require.NoError(w.t, err)
	parts := smb2.DACLSecurityInformation | smb2.OwnerSecurityInformation
	require.NoError(w.t, w.fs.SetSecurityInfoRaw(strings.ReplaceAll(path, "/", `\`), parts, blob(b)), path)
}

// oddShares gives the odd shares drawn rules of their own.
func (w *trial) oddShares() {
	for i := range 6 {
		d := w.rules(false)
		d.Control &= rule.RulesPresent
		for k := range d.Rules.Entries {
			d.Rules.Entries[k].Flags = 0
		}
		if i > 0 && !d.Rules.Absent { // so that something comes through
			d.Rules.Entries = append(d.Rules.Entries, rule.Entry{Kind: rule.Allow, Who: account.Everyone,
				Rights: []right.Set{right.All, 0x1200a9, 0x1301bf &^ right.WriteData, right.All &^ right.DeleteChild, right.All &^ right.ReadAttributes}[i-1]})
		}
		require.NoError(w.t, w.admin.setShareRules(context.Background(), fmt.Sprint("odd", i), d))
		if i == 3 {
			require.NoError(w.t, w.admin.setShareRules(context.Background(), "ruled", d))
		}
	}
}

// open makes a new estate.
func (w *trial) open() {
	ctx := context.Background()
	file := filepath.Join(w.t.TempDir(), "estate")
	require.NoError(w.t, estate.Create(ctx, file))
	e, err := estate.Open(ctx, file)
	require.NoError(w.t, err)
	w.t.Cleanup(func() { e.Close() })
	w.e = e
}

// take scans a server into the estate, as one that has these traits.
func (w *trial) take(name, traits string, from *Client) (here estate.Server) {
	ctx := context.Background()
	w.keep(func(d *plan.Planner) (*plan.Plan, error) { return servers.AddServer(d, name, traits, nil, nil, nil) })
	w.view(func(t *estate.Tx, k *ask.Asker) {
		var err error
		here, err = t.Server(name)
		require.NoError(w.t, err)
	})
	seen, err := (&live.Scan{Server: here}).Read(ctx, from)
	require.NoError(w.t, err)
	for _, u := range seen.Unread {
		require.Fail(w.t, u.Where, u.Why)
	}
	w.keep(func(d *plan.Planner) (*plan.Plan, error) {
		p, _, err := intake.AccountsFound(d, here, *seen.Accounts)
		return p, err
	})
	w.keep(func(d *plan.Planner) (*plan.Plan, error) { return people.TakeBuiltin(d, here, seen.Builtin) })
	w.t.Log("privileges:", seen.Privileges)
	w.keep(func(d *plan.Planner) (*plan.Plan, error) { return servers.TakePrivileges(d, here, seen.Privileges) })
	w.keep(func(d *plan.Planner) (*plan.Plan, error) { return intake.SharesFound(d, here, seen.Shares, true) })
	for _, x := range seen.Trees {
		require.NoError(w.t, x.Tree.Arrange())
		_, err := w.e.Change(ctx, estate.Meta{Head: estate.Any, Bulk: true}, func(t *estate.Tx) (string, error) {
			return "scan", intake.LoadTree(t, place.Address{Server: name, Path: x.Folder}, x.Tree, nil)
		})
		require.NoError(w.t, err)
	}
	require.NoError(w.t, w.e.Note(ctx, func(t *estate.Tx) error {
		for _, x := range seen.Domains {
			t.SetDomain(x)
		}
		t.SetScanned(here, seen.At, seen.Machine)
		return t.Err()
	}))
	return here
}

// scan reads the server into a new estate, and fills in what it doesn't tell.
func (w *trial) scan() {
	w.open()
	w.here = w.take("box", w.traits, w.admin)
	if w.traits == "smb-domain" { // it tells all there is
		w.keep(func(d *plan.Planner) (*plan.Plan, error) {
			return servers.Administrators(d, "box", []string{"Administrator"}, true)
		})
		return
	}
	open := func(name string) *os.File {
		f, err := os.Open(filepath.Join(w.s.Dir, name))
		require.NoError(w.t, err)
		w.t.Cleanup(func() { f.Close() })
		return f
	}
	users, err := passwd.Users(open("passwd"), "passwd")
	require.NoError(w.t, err)
	users = slices.DeleteFunc(users, func(r format.AccountRow) bool { return r.Name == "root" || r.Name == "nobody" })
	groups, members, err := passwd.Groups(open("group"), "group")
	require.NoError(w.t, err)
	w.keep(func(d *plan.Planner) (*plan.Plan, error) {
		p, _, err := people.LoadAccounts(d, []people.AccountFile{{File: "passwd", Accounts: users}, {File: "group", Accounts: groups, Members: members, POSIX: true}})
		return p, err
	})
	w.keep(func(d *plan.Planner) (*plan.Plan, error) {
		return servers.Administrators(d, "box", []string{"warden"}, true)
	})
	// What its configuration says of shares the protocol doesn't tell.
	configured, err := smbconf.Read(open("smb.conf"), "smb.conf", nil)
	require.NoError(w.t, err)
	w.keep(func(d *plan.Planner) (*plan.Plan, error) {
		p, unknown, err := servers.Configure(d, "box", "smb.conf", configured, nil)
		require.Empty(w.t, unknown)
		return p, err
	})
}

func (w *trial) keep(fn func(d *plan.Planner) (*plan.Plan, error)) {
	ctx := context.Background()
	var p *plan.Plan
	require.NoError(w.t, w.e.View(ctx, func(t *estate.Tx) (err error) {
		p, err = fn(plan.New(t, "outsider"))
		return err
	}))
	_, err := w.e.Change(ctx, p.Meta("test"), p.Keep)
	require.NoError(w.t, err)
}

func (w *trial) view(fn func(t *estate.Tx, k *ask.Asker)) {
	require.NoError(w.t, w.e.View(context.Background(), func(t *estate.Tx) error {
		fn(t, ask.New(t))
		return t.Err()
	}))
}

func (w *trial) as(user string) *Exact {
	if w.exact[user] == nil {
		l := w.link
		l.User, l.Domain = user, cmp.Or(w.domains[user], l.Domain)
		x, err := DialExact(context.Background(), l, Secret{Password: w.password(user)})
		require.NoError(w.t, err)
		w.t.Cleanup(x.Close)
		w.exact[user] = x
	}
	return w.exact[user]
}

// sample is an item by a share.
type sample struct {
	at    estate.Place
	share estate.Share
	rest  string
}

func (w *trial) samples(t *estate.Tx) (out []sample) {
	for _, top := range t.TopItems() {
		for _, item := range t.Subtree(top, 1<<30) {
			at := t.Place(item)
			for _, sh := range t.Shares(w.here) {
				if rest, ok := sh.Cut(at.Path); ok {
					out = append(out, sample{at, sh, rest})
				}
			}
		}
	}
	w.r.Shuffle(len(out), func(i, j int) { out[i], out[j] = out[j], out[i] })
	return out
}

// TestDecisionsAreTheServers: every right of every sample, opened as that user
// with that right alone, is granted by the server just where it is here.
func TestDecisionsAreTheServers(t *testing.T) {
	newTrial(t, seed(t), 260, false).decisions(times(100_000))
}

// TestBuiltInGroupsOfAServerAlone: a server that is in no domain has people in its own
// Administrators and Backup Operators, in Users by a special account, and who may take
// ownership; they are made members over the server's own calls.
func TestBuiltInGroupsOfAServerAlone(t *testing.T) {
	r := seed(t)
	for n := range 4 {
		t.Run(fmt.Sprint(n), func(t *testing.T) {
			if n > 0 {
				proptest.Long(t)
			}
			newTrialOf(t, rand.New(rand.NewPCG(uint64(n), r.Uint64())), 260, false, []string{"Backup Operators"}, func(w *trial) {
				for _, x := range [][2]string{{"Administrators", "u4"}, {"Backup Operators", "g2"}, {"Users", "u1"}, {"Users", "n0"}, {"Users", "Backup Operators"}, {"n2", "Administrators"}} {
					membership(t, w.admin, w.ids[x[0]], w.ids[x[1]])
					require.NoError(t, w.admin.SetMember(context.Background(), server.Member{Group: w.ids[x[0]], Member: w.ids[x[1]]}, true))
					w.more = append(w.more, w.ids[x[0]])
				}
			}).decisions(times(20_000))
		})
	}
}

// decisions holds so many decisions to the server.
func (w *trial) decisions(want int) {
	t := w.t
	type job struct {
		user string
		s    sample
		want right.Set
	}
	var jobs []job
	w.view(func(t *estate.Tx, k *ask.Asker) {
		all := w.samples(t)
		for i := 0; len(jobs)*(right.Count-1) < want; i++ {
			s := all[i%len(all)]
			u := w.users[(i/len(all)+i)%len(w.users)]
			a, err := t.User(u)
			require.NoError(w.t, err)
			sh := s.share
			jobs = append(jobs, job{u, s, verdict.Granted(k.Question(a.ID, s.at, &sh))})
		}
	})
	byUser := map[string][]job{}
	for _, j := range jobs {
		byUser[j.user] = append(byUser[j.user], j)
	}
	var mu sync.Mutex
	decided, granted, doors, different, byDoor := 0, 0, map[string]int{}, 0, map[string]int{}
	began := time.Now()
	var wg sync.WaitGroup
	for u, list := range byUser {
		x := w.as(u)
		wg.Go(func() {
			n, yes := 0, 0
			for _, j := range list {
				for i := range right.Count {
					one := right.At(i)
					if one == right.Synchronize { // what a server makes of that alone was never measured
						continue
					}
					s, err := x.Try(j.s.share.Name, j.s.rest, one)
					mu.Lock()
					if err != nil || s != 0 && s != StatusDenied {
						t.Errorf("%s %s/%s: %v %v", u, j.s.share.Name, j.s.rest, err, s)
						mu.Unlock()
						return
					}
					if n++; s == 0 {
						yes++
					}
					if (s == 0) != (j.want&one != 0) {
						byDoor[fmt.Sprintf("%s %s server %v", u, j.s.share.Name, s == 0)]++
						if different++; different <= 12 {
							t.Logf("%+v", w.reason(u, j.s, one))
							t.Errorf("%s %v on %s/%s: the server says %v, the estate %v", u, one, j.s.share.Name, j.s.rest, s == 0, j.want&one != 0)
						}
					}
					mu.Unlock()
				}
			}
			mu.Lock()
			decided += n
			granted += yes
			doors[u] = n
			mu.Unlock()
		})
	}
	wg.Wait()
	if different > 0 {
		t.Logf("different by user and share: %v", byDoor)
	}
	t.Logf("%d decisions, %d of them granted, %d different, in %v", decided, granted, different, time.Since(began).Round(time.Second))
	require.GreaterOrEqual(t, decided, want)
	require.Greater(t, granted, decided/10)
	require.Less(t, granted, decided*9/10)
	require.Zero(t, different)
}

// handle is something an exact connection has opened.
type handle struct {
	tree uint32
	id   []byte
}

// create opens or makes something, and keeps it open ([MS-SMB2] §2.2.13).
func (x *Exact) create(share, path string, rights right.Set, disposition, options uint32) (*handle, Status, error) {
	tree, err := x.tree(share)
	var s Status
	if errors.As(err, &s) {
		return nil, s, nil
	}
	if err != nil {
		return nil, 0, err
	}
	name := utf16le(strings.ReplaceAll(path, "/", `\`))
	body := make([]byte, 56, 57+len(name))
	binary.LittleEndian.PutUint16(body, 57)
	binary.LittleEndian.PutUint32(body[4:], 2)
	binary.LittleEndian.PutUint32(body[24:], uint32(rights))
	binary.LittleEndian.PutUint32(body[32:], 7)
	binary.LittleEndian.PutUint32(body[36:], disposition)
	binary.LittleEndian.PutUint32(body[40:], options)
	binary.LittleEndian.PutUint16(body[44:], headerSize+56)
	binary.LittleEndian.PutUint16(body[46:], uint16(len(name)))
	if len(name) == 0 {
		name = []byte{0}
	}
	answers, err := x.ask(request{cmdCreate, tree, append(body, name...)})
	if err != nil || answers[0].status != 0 {
		var st Status
		if len(answers) > 0 {
			st = answers[0].status
		}
		return nil, st, err
	}
	return &handle{tree, slices.Clone(answers[0].body[64:80])}, 0, nil
}

func (x *Exact) close(h *handle) error {
	body := make([]byte, 8, 24)
	binary.LittleEndian.PutUint16(body, 24)
	_, err := x.ask(request{cmdClose, h.tree, append(body, h.id...)})
	return err
}

// set sets information on something open ([MS-SMB2] §2.2.39): of a file (1) or
// its rules (3).
func (x *Exact) set(h *handle, kind, class byte, more uint32, info []byte) (Status, error) {
	body := make([]byte, 16, 32+len(info))
	binary.LittleEndian.PutUint16(body, 33)
	body[2], body[3] = kind, class
	binary.LittleEndian.PutUint32(body[4:], uint32(len(info)))
	binary.LittleEndian.PutUint16(body[8:], headerSize+32)
	binary.LittleEndian.PutUint32(body[12:], more)
	answers, err := x.ask(request{17, h.tree, append(append(body, h.id...), info...)})
	if err != nil {
		return 0, err
	}
	return answers[0].status, nil
}

// rename gives something open another path in its share ([MS-FSCC] §2.4.42.2).
func (x *Exact) rename(h *handle, to string, replace bool) (Status, error) {
	name := utf16le(strings.ReplaceAll(to, "/", `\`))
	info := make([]byte, 20, 20+len(name))
	if replace {
		info[0] = 1
	}
	binary.LittleEndian.PutUint32(info[16:], uint32(len(name)))
	return x.set(h, 1, 10, 0, append(info, name...))
}

// inAll gives a sample's path in the share that shows everything.
func (w *trial) inAll(s sample) string {
	rest, ok := place.Cut(s.at.Path, filepath.Join(w.s.Dir, "all"))
	require.True(w.t, ok)
	return rest
}

func within(folder, name string) string { return strings.TrimPrefix(folder+"/"+name, "/") }

// TestChildrenAreAsTheServerMakesThem: what a server hands to something new in
// a folder, and whether it lets a user make it at all, is what core says.
func TestChildrenAreAsTheServerMakesThem(t *testing.T) {
	w := newTrial(t, seed(t), 200, false)
	want, made, refused, marks := times(1000), 0, 0, map[string]int{}
	w.view(func(tx *estate.Tx, k *ask.Asker) {
		all := w.samples(tx)
		all = slices.DeleteFunc(all, func(s sample) bool { return !s.at.Folder })
		for i := 0; made < want && !t.Failed(); i++ {
			s := all[i%len(all)]
			user := append(w.users, "warden")[(i/len(all)+i)%(len(w.users)+1)]
			folder := w.r.IntN(2) == 0
			act, rights, options := "create", right.Set(0x12019f), uint32(0x40)
			if folder {
				act, rights, options = "make-folder", 0x100081, 1
			}
			name := fmt.Sprint("new ", i)
			sh := s.share
			a, err := tx.User(user)
			require.NoError(t, err)
			in := s.at
			in.Share = &sh
			may := explain.CanMake(k, a, in, name, folder).Allowed
			x := w.as(user)
			h, st, err := x.create(s.share.Name, within(s.rest, name), rights, 2, options)
			require.NoError(t, err)
			require.True(t, st == 0 || st == StatusDenied, "%s %s/%s: %v", user, s.share.Name, s.rest, st)
			require.Equal(t, may, st == 0, "%s makes %s in %s/%s: %s", user, act, s.share.Name, s.rest, st)
			if st != 0 {
				refused++
				continue
			}
			made++
			require.NoError(t, x.close(h))
			raw, err := w.fs.SecurityInfoRaw(strings.ReplaceAll(within(w.inAll(s), name), "/", `\`), everything)
			require.NoError(t, err)
			got, err := rules(raw)
			require.NoError(t, err)
			core := verdict.Made(tx.Of(s.at.Strand).Listed(), folder, explain.MakerOf(k, a, w.here, &sh), &w.here.Traits)
			// What the server writes of an object entry's types is whatever its memory holds.
			for _, d := range []*rule.Descriptor{core, got} {
				for i := range d.Rules.Entries {
					d.Rules.Entries[i].Extra.Object = ""
				}
			}
			require.True(t, core.Equal(got), "%s makes %v in %s/%s:\nthe folder has %+v\nthe server makes %+v\ncore says %+v", user, folder, s.share.Name, s.rest, tx.Of(s.at.Strand), got, core)
			marks[fmt.Sprintf("%d entries", min(len(core.Rules.Entries), 9))]++
			require.NoError(t, w.fs.Remove(strings.ReplaceAll(within(w.inAll(s), name), "/", `\`)))
		}
	})
	t.Logf("%d children made, all as core says; %d refused, as core says; %v", made, refused, marks)
	require.Greater(t, refused, made/10)
}

// TestActsAreTheServers: acts that are really done, each held to what try says.
func TestActsAreTheServers(t *testing.T) {
	w := newTrial(t, seed(t), 160, true)
	tried, allowed := 0, map[string]int{}
	want := times(2000)
	w.view(func(tx *estate.Tx, k *ask.Asker) {
		all := w.samples(tx)
		folders := slices.DeleteFunc(slices.Clone(all), func(s sample) bool { return !s.at.Folder })
		for i := 0; tried < want && !t.Failed(); i++ {
			s, user, a := all[i%len(all)], w.users[w.r.IntN(len(w.users))], &verdict.Acts[w.r.IntN(len(verdict.Acts))]
			if s.rest == "" && a.Name != "list" || (a.Takes == verdict.File) && s.at.Folder || a.Takes == verdict.Folder && !s.at.Folder || a.Takes == verdict.NewFile || a.Takes == verdict.NewFolder {
				continue
			}
			if a.Name == "delete" && s.at.Folder && len(tx.Within(s.at.Item)) > 0 {
				continue
			}
			where := strings.TrimSuffix(s.share.Address()+"/"+s.rest, "/")
			to, target := "", ""
			switch a.To {
			case verdict.NewName:
				to = "named anew"
				target = within(up(s.rest), to)
			case verdict.NewPlace:
				of := alike(folders, s)
				f := of[w.r.IntN(len(of))]
				if place.Under(f.at.Path, s.at.Path) {
					continue
				}
				target = within(f.rest, "moved here")
				to = s.share.Address() + "/" + target
			case verdict.ThereIs:
				of := alike(all, s)
				f := of[w.r.IntN(len(of))]
				if f.at.Folder || f.at.Item == s.at.Item {
					continue
				}
				target = f.rest
				to = s.share.Address() + "/" + target
			case verdict.NewOwner:
				to = w.users[w.r.IntN(len(w.users))]
			}
			said, err := explain.Try(k, user, a.Name, where, to, true)
			if err != nil {
				continue // what doesn't fit isn't asked
			}
			did := w.do(w.as(user), a.Name, s, target, to)
			tried++
			allowed[fmt.Sprintf("%s %v", a.Name, did)]++
			if did != said.Allowed {
				up := tx.Of(s.at.Trail[1])
				t.Errorf("%s %s %s (to %s): the server says %v, the estate %v: %+v\nits folder has %+v\nit has %+v", user, a.Name, where, to, did, said.Allowed, said.Needs, up, tx.Of(s.at.Strand))
			}
		}
	})
	t.Logf("%d acts tried, %v", tried, allowed)
	for _, a := range verdict.Acts {
		if os.Getenv("TARNWOLD_SEED") == "" && !proptest.Short() && a.Takes != verdict.NewFile && a.Takes != verdict.NewFolder && a.Name != "give-owner" {
			require.Positive(t, allowed[a.Name+" true"], a.Name)
			require.Positive(t, allowed[a.Name+" false"], a.Name)
		}
	}
}

// alike gives the samples by the share that one is by.
func alike(all []sample, s sample) []sample {
	return slices.DeleteFunc(slices.Clone(all), func(o sample) bool { return o.share.ID != s.share.ID })
}

func up(p string) string {
	if i := strings.LastIndexByte(p, '/'); i >= 0 {
		return p[:i]
	}
	return ""
}

// do does an act as a user, and puts everything back as it was.
func (w *trial) do(x *Exact, act string, s sample, target, owner string) bool {
	t := w.t
	native := func(p string) string { return strings.ReplaceAll(p, "/", `\`) }
	at := native(w.inAll(s))
	was, err := w.fs.SecurityInfoRaw(at, everything)
	require.NoError(t, err)
	restore := func(path string, b []byte) {
		d, err := rules(b)
		require.NoError(t, err)
		w.give(strings.ReplaceAll(path, `\`, "/"), d)
	}
	open := func(rights right.Set, disposition, options uint32) (*handle, bool) {
		h, st, err := x.create(s.share.Name, s.rest, rights, disposition, options)
		require.NoError(t, err)
		require.True(t, st == 0 || st == StatusDenied, "%s %s: %v", act, s.rest, st)
		return h, st == 0
	}
	just := func(rights right.Set) bool {
		h, ok := open(rights, 1, 0)
		if ok {
			require.NoError(t, x.close(h))
		}
		return ok
	}
	through := func(rights right.Set, fn func(h *handle) (Status, error), back func()) bool {
		h, ok := open(rights, 1, 0)
		if !ok {
			return false
		}
		st, err := fn(h)
		require.NoError(t, err)
		require.True(t, st == 0 || st == StatusDenied || st == 0xc00000a2 || st == 0xc000005a, "%s %s: %v", act, s.rest, st) // or: write protected, no owner to be
		require.NoError(t, x.close(h))
		if st == 0 {
			back()
		}
		return st == 0
	}
	inAll := func(path string) string { // a path in the sample's share, in the share of everything
		rest, _ := place.Cut(place.Join(s.share.Folder, path), filepath.Join(w.s.Dir, "all"))
		return native(rest)
	}
	security := func(d *rule.Descriptor) []byte {
		b, err := secdesc.Encode(d)
		require.NoError(t, err)
		return b
	}
	switch act {
	case "list", "read":
		return just(right.ReadData)
	case "write":
		return just(right.WriteData)
	case "append":
		return just(right.AppendData)
	case "save":
		return just(right.WriteData | right.AppendData)
	case "open-read":
		return just(0x120089)
	case "open-write":
		return just(0x120116)
	case "open-sync":
		return just(right.ReadData | right.Synchronize)
	case "read-rules":
		return just(right.ReadACL)
	case "overwrite", "supersede":
		disposition := uint32(4)
		if act == "supersede" {
			disposition = 0
		}
		h, ok := open(right.ReadAttributes, disposition, 0)
		if ok {
			require.NoError(t, x.close(h))
			restore(at, was)
		}
		return ok
	case "set-attributes":
		info := make([]byte, 40)
		binary.LittleEndian.PutUint32(info[32:], 0x20) // archive
		return through(right.WriteAttributes, func(h *handle) (Status, error) { return x.set(h, 1, 4, 0, info) }, func() {})
	case "rename", "rename-by-attributes", "move":
		rights := right.Delete
		if act == "rename-by-attributes" {
			rights = right.WriteAttributes
		}
		return through(rights, func(h *handle) (Status, error) { return x.rename(h, target, false) },
			func() { require.NoError(t, w.fs.Rename(inAll(target), at)) })
	case "replace":
		other := inAll(target)
		its, err := w.fs.SecurityInfoRaw(other, everything)
		require.NoError(t, err)
		return through(right.Delete, func(h *handle) (Status, error) { return x.rename(h, target, true) }, func() {
			require.NoError(t, w.fs.Rename(other, at))
			require.NoError(t, w.fs.WriteFile(other, []byte("x"), 0o666))
			restore(other, its)
		})
	case "delete":
		return through(right.Delete, func(h *handle) (Status, error) { return x.set(h, 1, 13, 0, []byte{1}) }, func() {
			if s.at.Folder {
				require.NoError(t, w.fs.Mkdir(at, 0o777))
			} else {
				require.NoError(t, w.fs.WriteFile(at, []byte("x"), 0o666))
			}
			restore(at, was)
		})
	case "change-rules":
		d, err := rules(was)
		require.NoError(t, err)
		return through(right.WriteACL, func(h *handle) (Status, error) { return x.set(h, 3, 0, 4, security(d)) }, func() { restore(at, was) })
	case "take-owner", "give-owner":
		to := x.user
		if as := map[string]string{"as": "u4", "asfew": "u4", "ruled": "u5"}[s.share.Name]; as != "" {
			to = as
		}
		if act == "give-owner" {
			to = owner
		}
		d := &rule.Descriptor{Owner: w.ids[to], Rules: rule.Rules{Absent: true}, Audit: rule.Rules{Absent: true}}
		return through(right.WriteOwner, func(h *handle) (Status, error) { return x.set(h, 3, 0, 1, security(d)) }, func() { restore(at, was) })
	}
	require.Fail(t, act)
	return false
}

// reason tells what the estate holds an answer on.
func (w *trial) reason(user string, s sample, one right.Set) (out verdict.Finding) {
	w.view(func(t *estate.Tx, k *ask.Asker) {
		a, err := t.User(user)
		require.NoError(w.t, err)
		v := verdict.Decide(k.Question(a.ID, s.at, &s.share))
		out = v.Findings[right.Index(one)]
	})
	return out
}
