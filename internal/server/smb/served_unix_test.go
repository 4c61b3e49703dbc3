//go:build linux

package smb

import (
	"context"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"testing"

	smb2 "github.com/cloudsoda/go-smb2"
	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"

	"tarnwold/core/account"
	"tarnwold/core/posix"
	"tarnwold/core/posix/acltext"
	"tarnwold/core/right"
	"tarnwold/core/rule"
	"tarnwold/core/rule/secdesc"
	"tarnwold/core/verdict"
	"tarnwold/internal/format/ntacl"
	"tarnwold/internal/proptest"
	"tarnwold/internal/server/smb/smbtest"
)

// served is a real SMB server over a tree of modes and lists.
type served struct {
	t      *testing.T
	r      *rand.Rand
	s      *smbtest.Server
	users  []string
	uid    map[string]uint32
	gids   []uint32
	in     map[string]map[account.ID]bool
	traits verdict.Traits
}

// servedItem is an item of such a tree, with the folders above, nearest first.
type servedItem struct {
	path  string
	rules *posix.Rules
	above []*posix.Rules
}

func newServed(t *testing.T, traits, lines string) *served {
	w := &served{t: t, r: seed(t), users: []string{"bram", "ines", "petra"}, uid: map[string]uint32{}, in: map[string]map[account.ID]bool{}}
	w.s = smbtest.Start(t, smbtest.Config{Users: append([]string{"warden"}, w.users...), Shares: map[string]string{"tree": lines},
		Groups: map[string][]string{"wardrobe": {"bram", "ines"}, "stage": {"ines", "petra"}}})
	tr, err := verdict.NamedTraits(traits)
	require.NoError(t, err)
	w.traits = tr.Through(true)
	number := func(s string) uint32 {
		n, err := strconv.Atoi(s)
		require.NoError(t, err)
		return uint32(n)
	}
	for _, file := range []string{"passwd", "group"} {
		text, err := os.ReadFile(filepath.Join(w.s.Dir, file))
		require.NoError(t, err)
		for line := range strings.Lines(string(text)) {
			p := strings.Split(strings.TrimSpace(line), ":")
			if file == "passwd" {
				w.uid[p[0]] = number(p[2])
				w.in[p[0]] = map[account.ID]bool{account.UID(number(p[2])): true, account.GID(number(p[3])): true}
				continue
			}
			if number(p[2]) >= 5000 && number(p[2]) < 6000 {
				w.gids = append(w.gids, number(p[2]))
			}
			for _, m := range strings.Split(p[3], ",") {
				if m != "" {
					w.in[m][account.GID(number(p[2]))] = true
				}
			}
		}
	}
	return w
}

// rules draws a mode, or a list.
func (w *served) rules(folder bool) *posix.Rules {
	r := w.r
	perm := func() posix.Perm { return posix.Perm(r.IntN(8)) }
	l := posix.List{{Tag: posix.UserObj, Perm: perm()}}
	named := r.IntN(2) == 0
	for _, u := range w.users {
		if named && r.IntN(3) == 0 {
			l = append(l, posix.Entry{Tag: posix.User, Who: account.UID(w.uid[u]), Perm: perm()})
		}
	}
	l = append(l, posix.Entry{Tag: posix.GroupObj, Perm: perm()})
	for _, g := range w.gids {
		if named && r.IntN(3) == 0 {
			l = append(l, posix.Entry{Tag: posix.Group, Who: account.GID(g), Perm: perm()})
		}
	}
	if len(l) > 2 {
		l = append(l, posix.Entry{Tag: posix.Mask, Perm: perm()})
	}
	l = append(l, posix.Entry{Tag: posix.Other, Perm: perm()})
	owners := append([]string{"root"}, w.users...)
	out := &posix.Rules{Folder: folder, Access: l, Owner: account.UID(w.uid[owners[r.IntN(len(owners))]]), Group: account.GID(w.gids[r.IntN(len(w.gids))])}
	if folder && r.IntN(4) == 0 {
		out.Special = posix.Sticky
	}
	return out
}

func (w *served) set(path string, x *posix.Rules) {
	o, _, _ := x.Owner.POSIX()
	g, _, _ := x.Group.POSIX()
	require.NoError(w.t, os.Lchown(path, int(o), int(g)))
	b, err := acltext.Encode(x.Access, acltext.NumberOf)
	require.NoError(w.t, err)
	require.NoError(w.t, unix.Setxattr(path, "system.posix_acl_access", b, 0))
	require.NoError(w.t, unix.Chmod(path, uint32(x.Mode())))
}

// grow makes a tree of folders three deep.
func (w *served) grow(folders int) (items []servedItem) {
	top := &posix.Rules{Folder: true, Access: posix.Of(0o755), Owner: account.UID(0), Group: account.GID(0)}
	root := filepath.Join(w.s.Dir, "tree")
	items = append(items, servedItem{"", top, nil})
	all := []int{0}
	for i := range folders {
		in := items[all[w.r.IntN(len(all))]]
		if strings.Count(in.path, "/") > 1 {
			in = items[0]
		}
		x := servedItem{strings.TrimPrefix(in.path+"/"+fmt.Sprint("d", i), "/"), w.rules(true), append([]*posix.Rules{in.rules}, in.above...)}
		if w.r.IntN(3) > 0 { // so that enough is reached
			for j := range x.rules.Access {
				x.rules.Access[j].Perm |= posix.X
			}
		}
		require.NoError(w.t, os.Mkdir(filepath.Join(root, x.path), 0o777))
		all = append(all, len(items))
		items = append(items, x)
		for j := range 5 {
			f := servedItem{x.path + "/" + fmt.Sprint("f", j), w.rules(false), append([]*posix.Rules{x.rules}, x.above...)}
			require.NoError(w.t, os.WriteFile(filepath.Join(root, f.path), []byte("x"), 0o666))
			items = append(items, f)
		}
	}
	for i := len(items) - 1; i >= 0; i-- {
		w.set(filepath.Join(root, items[i].path), items[i].rules)
	}
	return items
}

// memberBook tells what groups one user is in.
type memberBook struct{ in map[account.ID]bool }

func (b memberBook) Account(account.ID) (account.Account, bool) { return account.Account{}, false }
func (b memberBook) Local(_, _ account.ID) bool                 { return false }
func (b memberBook) GroupsOf(id account.ID) (out []account.ID) {
	if _, user, _ := id.POSIX(); user {
		for g := range b.in {
			if g != id {
				out = append(out, g)
			}
		}
	}
	return out
}

func (w *served) question(user string, x servedItem) *verdict.Question {
	how := w.traits.Reading()
	q := &verdict.Question{Item: rule.Compile(x.rules, how), Traits: &w.traits, Share: &verdict.Share{},
		Token: account.NewToken(memberBook{w.in[user]}, account.UID(w.uid[user]), w.traits.Traits, verdict.Special(false)...)}
	q.Share.Rules = rule.Compile(&rule.Descriptor{Rules: rule.Rules{Entries: []rule.Entry{{Who: account.Everyone, Rights: right.All}}}}, rule.Reading{})
	q.Parent = q.Item
	if len(x.above) > 0 {
		q.Parent = rule.Compile(x.above[0], how)
	}
	for _, a := range x.above {
		q.Above = append(q.Above, rule.Compile(a, w.traits.AboveReading()))
	}
	if len(x.above) == 0 && w.traits.AsksOwnFolder() {
		q.Above = append(q.Above, rule.Compile(x.rules, w.traits.AboveReading()))
	}
	return q
}

// described gives some items descriptors of their own, over SMB, and reads
// what stands beside and behind them then.
func (w *served) described(items []servedItem) {
	ctx := context.Background()
	admin := dial(w.t, w.s, "warden")
	fs, err := admin.session.Mount("tree")
	require.NoError(w.t, err)
	draw := &trial{t: w.t, r: w.r, users: w.users, admin: admin, fs: fs, mild: true}
	draw.names()
	for _, g := range []string{"wardrobe", "stage"} {
		draw.more = append(draw.more, draw.ids[g], draw.ids[g])
	}
	for _, u := range w.users {
		w.in[u][draw.ids[u]] = true
		domain, _, _ := draw.ids[u].Domain()
		w.in[u][domain.Child(account.DomainUsersRID)] = w.traits.DomainUsers
		for i, g := range []string{"stage", "wardrobe"} {
			if w.in[u][account.GID(5001+uint32(i))] {
				w.in[u][draw.ids[g]] = true
			}
		}
	}
	given, ended := make([]bool, len(items)), 0
	for i, x := range items {
		if given[i] = i > 0 && w.r.IntN(3) > 0; given[i] {
			d := draw.rules(x.rules.Folder)
			for len(d.Rules.Entries) > 20 { // a list can end a process of this server
				d = draw.rules(x.rules.Folder)
			}
			b, err := secdesc.Encode(d)
			require.NoError(w.t, err)
			if err = fs.SetSecurityInfoRaw(strings.ReplaceAll(x.path, "/", `\`), smb2.DACLSecurityInformation|smb2.OwnerSecurityInformation, blob(b)); err == nil {
				continue
			}
			given[i] = false // there are lists that this server ends over
			ended++
			admin = dial(w.t, w.s, "warden")
			fs, err = admin.session.Mount("tree")
			require.NoError(w.t, err)
		}
	}
	w.t.Logf("%d of %d descriptors ended the server's process", ended, len(items))
	for i, x := range items {
		path := filepath.Join(w.s.Dir, "tree", x.path)
		var st unix.Stat_t
		require.NoError(w.t, unix.Lstat(path, &st))
		x.rules.Owner, x.rules.Group, x.rules.Special = account.UID(st.Uid), account.GID(st.Gid), uint16(st.Mode)&0o7000
		x.rules.Access = posix.Of(uint16(st.Mode) & 0o777)
		buf := make([]byte, 1<<16)
		if n, err := unix.Getxattr(path, "system.posix_acl_access", buf); err == nil {
			x.rules.Access, err = acltext.Decode(buf[:n])
			require.NoError(w.t, err)
		}
		if n, err := unix.Getxattr(path, "system.posix_acl_default", buf); err == nil {
			x.rules.Default, err = acltext.Decode(buf[:n])
			require.NoError(w.t, err)
		}
		if given[i] {
			now, err := admin.Look(ctx, "tree", x.path, false)
			require.NoError(w.t, err)
			x.rules.Kept = now.Rules.(*rule.Descriptor)
			n, err := unix.Getxattr(path, ntacl.Attribute, buf)
			require.NoError(w.t, err)
			read, err := ntacl.Read(buf[:n], x.rules)
			require.NoError(w.t, err, x.path)
			require.True(w.t, read.Owner == x.rules.Kept.Owner && slices.Equal(read.Rules.Entries, x.rules.Kept.Rules.Entries), x.path)
		}
	}
}

// TestDescriptorsKeptBesideLists: the same where the server keeps descriptors
// beside the lists, and both decide.
func TestDescriptorsKeptBesideLists(t *testing.T) {
	proptest.Long(t)
	w := newServed(t, "posix-smb-kept", "vfs objects = acl_xattr\nacl_xattr:ignore system acls = no")
	items := w.grow(times(40_000) / 13 / 3 / 6)
	w.described(items)
	require.Greater(t, w.opens(items), times(1_000))
	// Changing rules is refused by the kernel about once in a hundred times here.
	w.acts(items, "create", "delete", "rename", "move", "take-owner")
}

// TestListsServedOverSMB: each right alone, opened as each user through a share
// over a tree of modes and lists, is granted by the server just where it is here.
func TestListsServedOverSMB(t *testing.T) {
	proptest.Long(t)
	w := newServed(t, "posix-smb", "vfs objects =")
	items := w.grow(times(40_000) / 13 / 3 / 6)
	require.Greater(t, w.opens(items), times(1_000))
	w.acts(items, "create", "delete", "rename", "move", "change-rules", "take-owner")
	items[0].rules.Access = posix.Of(0o744) // the share's own folder can't be entered
	w.set(filepath.Join(w.s.Dir, "tree"), items[0].rules)
	require.Zero(t, w.opens(items[:10]))
}

// opens holds each right of each item to the server, and tells how many are granted.
func (w *served) opens(items []servedItem) int {
	t, ctx := w.t, context.Background()
	asked, granted, different := 0, 0, 0
	for _, u := range w.users {
		x, err := DialExact(ctx, Link{Host: "127.0.0.1", Port: w.s.Port, User: u}, Secret{Password: smbtest.Password(u)})
		require.NoError(t, err)
		for _, it := range items {
			q := w.question(u, it)
			want := verdict.Granted(q)
			for i := range right.Count {
				one := right.At(i)
				if one == right.Synchronize {
					continue
				}
				s, err := x.Try("tree", it.path, one)
				require.NoError(t, err)
				if asked++; s == 0 {
					granted++
				}
				if (s == 0) != (want&one != 0) {
					different++
					f := verdict.Decide(q).Findings[i]
					t.Logf("%s, %s of %s: the server says %v, here it is %v; %+v of %+v kept %+v", u, one.Names(it.rules.Folder)[0], it.path, s == 0, want&one != 0, f.File, it.rules, it.rules.Kept)
				}
			}
		}
		x.Close()
	}
	t.Logf("%d opens, %d granted, %d different", asked, granted, different)
	require.Zero(t, different)
	return granted
}

// trial puts together what core is asked of an act on an item in its folder,
// that goes to another folder.
func (w *served) trial(user string, x, folder servedItem, target *servedItem) *verdict.Trial {
	t := &verdict.Trial{Item: w.question(user, x), Folder: w.adding(user, folder), Posix: true, IsFolder: x.rules.Folder}
	alone := *t.Item
	how := w.traits.AboveReading()
	alone.Share, alone.Item, alone.Parent = nil, rule.Compile(x.rules, how), rule.Compile(folder.rules, how)
	t.Kernel = &alone
	to := folder
	if target != nil {
		to = *target
		t.Target = w.adding(user, to)
	}
	names := *w.adding(user, to)
	names.Share, names.Parent, names.Item = nil, nil, rule.Compile(to.rules, how)
	t.Names = &names
	return t
}

func (w *served) adding(user string, folder servedItem) *verdict.Question {
	q := w.question(user, folder)
	q.Item = rule.Compile(folder.rules, w.traits.AddReading())
	return q
}

// acts holds what can be done to each file, and in its folder, to the server.
func (w *served) acts(items []servedItem, names ...string) {
	t, ctx := w.t, context.Background()
	root := filepath.Join(w.s.Dir, "tree")
	at := map[string]servedItem{}
	var folders []servedItem
	for _, x := range items {
		if at[x.path] = x; x.rules.Folder {
			folders = append(folders, x)
		}
	}
	people := &trial{t: t, admin: dial(t, w.s, "warden")}
	people.names()
	sids := people.ids
	tried, allowed, different := map[string]int{}, map[string]int{}, 0
	for _, u := range w.users {
		x, err := DialExact(ctx, Link{Host: "127.0.0.1", Port: w.s.Port, User: u}, Secret{Password: smbtest.Password(u)})
		require.NoError(t, err)
		for _, it := range items {
			if it.path == "" || it.rules.Folder {
				continue
			}
			up := filepath.Dir(it.path)
			folder, target := at[up], folders[w.r.IntN(len(folders))]
			act := names[w.r.IntN(len(names))]
			if act == "move" && target.path == up {
				act = "rename"
			}
			to := &target
			if act == "rename" {
				to = nil
			}
			trial := w.trial(u, it, folder, to)
			name, after := it.path, up+"/new"
			if act == "move" {
				after = strings.TrimPrefix(target.path+"/new", "/")
			}
			rights, disposition, options := right.Delete, uint32(1), uint32(0)
			switch act {
			case "create":
				trial.Item, trial.Kernel = nil, nil
				name, rights, disposition = after, right.ReadAttributes, 2
			case "delete":
				options = 0x1000 // when it is closed
			case "change-rules":
				rights = right.WriteACL
			case "take-owner":
				rights = right.WriteOwner
			}
			h, _, err := x.create("tree", name, rights, disposition, options)
			require.NoError(t, err)
			done := h != nil
			last := Status(0)
			if h != nil {
				if act == "rename" || act == "move" {
					s, err := x.rename(h, after, false)
					require.NoError(t, err)
					done = s == 0
					last = s
				}
				d, parts := &rule.Descriptor{Owner: sids[u], Control: rule.RulesPresent, Audit: rule.Rules{Absent: true}}, uint32(1)
				if act == "change-rules" {
					parts, d.Owner, d.Rules.Entries = 4, account.ID{}, []rule.Entry{{Who: account.Everyone, Rights: 0x1200a9}}
				}
				if act == "change-rules" || act == "take-owner" {
					body, err := secdesc.Encode(d)
					require.NoError(t, err)
					last, err = x.set(h, 3, 0, parts, body)
					require.NoError(t, err)
					done = last == 0
				}
				require.NoError(t, x.close(h))
			}
			if _, err := os.Lstat(filepath.Join(root, it.path)); act == "delete" {
				done = os.IsNotExist(err)
			}
			a, _ := verdict.ActNamed(act)
			want := verdict.Try(a, trial)
			if tried[act]++; done {
				allowed[act]++
			}
			if done != want.Allowed {
				different++
				t.Logf("%s, %s of %s to %s: the server says %v (%v), here it is %v: %+v; %+v in %+v", u, act, it.path, after, done, last, want.Allowed, want.Checks[:want.N], it.rules, folder.rules)
			}
			if !done {
				continue
			}
			_ = os.Remove(filepath.Join(root, after))
			if act == "change-rules" || act == "take-owner" {
				require.NoError(t, os.Remove(filepath.Join(root, it.path)))
			}
			if act != "create" { // as it was, but for what was kept beside it
				require.NoError(t, os.WriteFile(filepath.Join(root, it.path), []byte("x"), 0o600))
				w.set(filepath.Join(root, it.path), it.rules)
				it.rules.Kept = nil
			}
		}
		x.Close()
	}
	t.Logf("tried %v, allowed %v, %d different", tried, allowed, different)
	for act, n := range tried {
		require.Greater(t, n, 100, act)
		require.Positive(t, allowed[act], act)
	}
	require.Zero(t, different)
}
