package shape

import (
	"encoding/csv"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"tarnwold/core/account"
	"tarnwold/core/verdict"
	"tarnwold/internal/format/ldif"
)

var now = time.Date(2026, 11, 26, 12, 0, 0, 0, time.UTC)

func gather(t testing.TB, shape string, p Purposes, texts ...io.Reader) *People {
	s, ok := Named(shape)
	require.True(t, ok)
	g := Gather(s, "x.ldif", p, now)
	for _, text := range texts {
		r := ldif.NewReader(text, "x.ldif", append(s.Attributes(), p.Attributes()...)...)
		for {
			x, err := r.Next()
			if err == io.EOF {
				break
			}
			require.NoError(t, err)
			require.NoError(t, g.Record(x))
		}
	}
	f, err := g.People()
	require.NoError(t, err)
	return f
}

// directory makes a book of people.
func directory(f *People) *account.Directory {
	d := account.NewDirectory()
	for _, p := range f.People {
		d.Add(p.Account)
	}
	for _, m := range f.Members {
		d.Join(f.People[m[0]].ID, f.People[m[1]].ID)
	}
	return d
}

// TestTokensAreTheDomains: every user's token is what a live domain's own
// tokenGroups says.
func TestTokensAreTheDomains(t *testing.T) {
	tokensAre(t, "domain", 120)
	tokensAre(t, "domain-opens", 400)
}

func tokensAre(t *testing.T, domain string, users int) {
	f, err := os.Open(filepath.Join("..", "testdata", domain, "accounts.ldif"))
	require.NoError(t, err)
	defer f.Close()
	found := gather(t, "domain", Purposes{}, f)
	dir := directory(found)
	tr, err := verdict.NamedTraits("smb-domain")
	require.NoError(t, err)
	c, err := os.Open(filepath.Join("..", "testdata", domain, "tokens.csv"))
	require.NoError(t, err)
	defer c.Close()
	rows, err := csv.NewReader(c).ReadAll()
	require.NoError(t, err)
	byName := map[string]account.ID{}
	for _, p := range found.People {
		byName[p.Name] = p.ID
	}
	different, mail := 0, 0
	for _, r := range rows[1:] {
		require.Equal(t, r[1], byName[r[0]].String())
		want := strings.Fields(r[2])
		var got []string
		for _, id := range account.NewToken(dir, byName[r[0]], account.Traits{MailGroupsLeftOut: tr.MailGroupsLeftOut}).IDs() {
			if id != byName[r[0]] {
				got = append(got, id.String())
			}
		}
		slices.Sort(got)
		slices.Sort(want)
		if !slices.Equal(got, want) {
			different++
			t.Logf("%s\n here %v\n there %v", r[0], got, want)
		}
		if with := account.NewToken(dir, byName[r[0]], account.Traits{DomainUsers: true}); with.Len() != len(want)+1 {
			mail++ // by whose mail groups it would be otherwise
		}
	}
	require.Len(t, rows[1:], users)
	require.Zero(t, different)
	require.Greater(t, mail, 20)
}
