package impact

import (
	"context"
	"math/rand/v2"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"tarnwold/core/account"
	"tarnwold/core/change"
	"tarnwold/core/crowd"
	"tarnwold/core/right"
	"tarnwold/core/rule"
	"tarnwold/core/verdict"
)

// big makes 20,000 users in 5,000 groups, and nodes for 1,000,000 items with
// 5,000 distinct descriptors below one top.
func big() (*account.Directory, *change.Set, []account.ID) {
	r := rand.New(rand.NewPCG(1, 2))
	dir := account.NewDirectory()
	var groups []account.ID
	for i := range 5000 {
		g := dom.Child(uint32(100000 + i))
		groups = append(groups, g)
		dir.Add(account.Account{ID: g, Kind: account.Group, POSIX: account.NoPOSIX})
		if i > 100 {
			dir.Join(groups[r.IntN(i)], g)
		}
	}
	for i := range 20000 {
		u := dom.Child(uint32(1000 + i))
		dir.Add(account.Account{ID: u, Kind: account.User, POSIX: account.NoPOSIX})
		for range 5 {
			dir.Join(groups[r.IntN(len(groups))], u)
		}
	}
	top := &rule.Descriptor{Owner: account.System, Control: rule.RulesPresent, Audit: rule.Rules{Absent: true}}
	for i := range 4 {
		top.Rules.Entries = append(top.Rules.Entries, rule.Entry{Flags: 3, Rights: 0x1200a9, Who: groups[4000+i]})
	}
	set := &change.Set{Edits: map[int]change.Edit{}, Nodes: []change.Node{{Parent: -1, Folder: true, Items: 1, Before: top}}}
	for len(set.Nodes) < 5000 {
		p := r.IntN(min(len(set.Nodes), 400))
		d := rule.NewChild(set.Nodes[p].Before.(*rule.Descriptor), true, account.System, dom, nil)
		for range 1 + r.IntN(3) {
			kind := rule.Allow
			if r.IntN(6) == 0 {
				kind = rule.Deny
			}
			d, _, _ = d.Give([]rule.Entry{{Kind: kind, Flags: 3, Rights: []right.Set{0x1200a9, 0x1301bf, 0x1f01ff}[r.IntN(3)], Who: groups[r.IntN(len(groups))]}}, rule.Giving{})
		}
		set.Nodes = append(set.Nodes, change.Node{Parent: p, Folder: true, Items: 200, Before: d})
	}
	return dir, set, groups
}

// BenchmarkImpact works out a grant on the top that reaches everything, and
// compares with deciding each user and distinct descriptor one by one, before
// and after; of those a fiftieth is done, and its time taken fifty times.
func BenchmarkImpact(b *testing.B) {
	dir, set, groups := big()
	tr, err := verdict.NamedTraits("smb")
	require.NoError(b, err)
	for _, c := range []struct {
		name string
		who  account.ID
	}{{"group", groups[10]}, {"everyone", account.Everyone}} {
		b.Run(c.name, func(b *testing.B) {
			for b.Loop() {
				set.Edits[0] = func(d, _ rule.Any, _ bool) (rule.Any, error) {
					got, _, err := d.(*rule.Descriptor).Give([]rule.Entry{{Flags: 3, Rights: 0x1201bf, Who: c.who}}, rule.Giving{})
					return got, err
				}
				start := time.Now()
				require.NoError(b, set.Work(context.Background()))
				pop := crowd.NewPopulation(dir, tr.Traits, nil)
				sh := &verdict.Share{Rules: rule.Compile(&rule.Descriptor{Rules: rule.Rules{Entries: []rule.Entry{{Rights: right.All, Who: account.Everyone}}}}, tr.ShareReading())}
				local := &crowd.Route{Local: true, Traits: &tr, People: pop}
				share := &crowd.Route{Share: sh, Traits: &tr, People: pop}
				shifts, err := Of(context.Background(), set, []Route{
					{Name: "local", Local: true, Ways: [2]*crowd.Route{local, local}, Starts: []Start{Through(0, false)}},
					{Name: "share", Ways: [2]*crowd.Route{share, share}, Starts: []Start{Through(0, false)}},
				})
				require.NoError(b, err)
				took := time.Since(start)
				require.NotEmpty(b, shifts)

				for _, u := range pop.Users {
					if tokens[u.ID] == nil {
						tokens[u.ID] = account.NewToken(dir, u.ID, tr.Traits, verdict.Special(false)...)
					}
				}
				start = time.Now()
				const part = 50
				read := rule.NewReader(tr.Reading())
				for i := 0; i < len(set.Nodes); i += part {
					n := &set.Nodes[i]
					q := &verdict.Question{Item: read.Of(n.Before), Traits: &tr}
					then := &verdict.Question{Item: read.Of(n.After), Traits: &tr}
					if n.Parent >= 0 {
						q.Parent, then.Parent = read.Of(set.Nodes[n.Parent].Before), read.Of(set.Nodes[n.Parent].After)
					}
					for _, u := range pop.Users {
						tok := tokens[u.ID]
						q.Token, then.Token = tok, tok
						for range 2 { // two routes
							sunk |= verdict.Granted(q) ^ verdict.Granted(then)
						}
					}
				}
				slow := time.Since(start) * part
				b.ReportMetric(took.Seconds(), "s/impact")
				b.ReportMetric(slow.Seconds(), "s/one-by-one")
				b.ReportMetric(slow.Seconds()/took.Seconds(), "times-faster")
				b.ReportMetric(float64(len(shifts)), "shifts")
			}
		})
	}
}

var (
	sunk   right.Set
	tokens = map[account.ID]*account.Token{}
)
