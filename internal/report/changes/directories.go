package changes

import (
	"cmp"
	"slices"
	"strings"

	"tarnwold/internal/format"
	"tarnwold/internal/format/shape"
	"tarnwold/internal/report"
	"tarnwold/internal/report/doc"
)

// Directory is a directory people come from.
type Directory struct {
	Name        string         `json:"name"`
	URL         string         `json:"url"`
	Bases       []string       `json:"bases"`
	User        string         `json:"user,omitempty"`
	PasswordAt  string         `json:"password-at,omitempty"` // the file that the password is in
	CA          string         `json:"ca,omitempty"`
	Filter      string         `json:"filter,omitempty"`
	Unencrypted bool           `json:"unencrypted"`
	Writes      bool           `json:"writes"`
	Shape       shape.Shape    `json:"shape"`
	Purposes    shape.Purposes `json:"purposes"`
	Taken       string         `json:"taken,omitempty"` // RFC 3339, UTC; empty: never
	Users       int            `json:"users"`
	Groups      int            `json:"groups"`
	Shut        int            `json:"shut"`
}

func (d *Directory) taken() string {
	if d.Taken == "" {
		return "never"
	}
	return report.LocalTime(d.Taken)
}

// Directories lists directories.
func Directories(p *doc.Printer, list []Directory) error {
	heads := []string{"directory", "reached by", "shape", "users", "groups", "shut", "taken in"}
	rows := func() (out [][]string) {
		for i := range list {
			d := &list[i]
			out = append(out, []string{d.Name, d.URL, d.Shape.Name, format.Number(int64(d.Users)), format.Number(int64(d.Groups)), format.Number(int64(d.Shut)), d.taken()})
		}
		return out
	}
	return p.Give(list, heads, rows, func() { p.Grid(doc.PlainGrid(doc.Heads(heads...), rows())) })
}

// WriteDirectory shows one directory.
func WriteDirectory(p *doc.Printer, d *Directory) error {
	heads := []string{"what", "says"}
	who := d.User
	if who == "" {
		who = "nobody"
	}
	rows := [][]string{{"reached by", d.URL}}
	for _, b := range d.Bases {
		rows = append(rows, []string{"below", b})
	}
	rows = append(rows, []string{"signed on to as", who}, []string{"shape", d.Shape.Name})
	if d.PasswordAt != "" {
		rows = append(rows, []string{"password in", d.PasswordAt})
	}
	if d.Writes {
		rows = append(rows, []string{"written to", "who is in its groups"})
	}
	if d.Unencrypted {
		rows = append(rows, []string{"encrypted", "no"})
	}
	if d.CA != "" {
		rows = append(rows, []string{"trusted by", d.CA})
	}
	if d.Filter != "" {
		rows = append(rows, []string{"filter", d.Filter})
	}
	for _, x := range []struct {
		what string
		list []string
	}{{"groups by job", d.Purposes.Role}, {"groups with entries", d.Purposes.Access}, {"groups for mail", d.Purposes.Mail}} {
		if len(x.list) > 0 {
			rows = append(rows, []string{x.what, strings.Join(x.list, ", ")})
		}
	}
	rows = append(rows, []string{"from it", report.Count(int64(d.Users), "user") + " and " + report.Count(int64(d.Groups), "group") + ", " + format.Number(int64(d.Shut)) + " of them shut"}, []string{"taken in", d.taken()})
	return p.Give(d, heads, func() [][]string { return rows }, func() { p.Grid(doc.PlainGrid(doc.Heads(heads...), rows)) })
}

// TokenDifference is a group that is in a user's token on one side only.
type TokenDifference struct {
	User  string `json:"user"`
	Group string `json:"group"`
	ID    string `json:"identifier"`
	Here  bool   `json:"here"` // in the estate, and not in the directory
}

// SortDifferences puts differences in order.
func SortDifferences(l []TokenDifference) {
	slices.SortFunc(l, func(a, b TokenDifference) int {
		return cmp.Or(cmp.Compare(a.User, b.User), cmp.Compare(a.Group, b.Group))
	})
}

// DirectoryProof is what came of holding users' groups to a directory's tokens.
type DirectoryProof struct {
	Name        string            `json:"directory"`
	Users       int               `json:"users"`
	WellKnown   int               `json:"special-accounts"`   // in the directory's tokens: everybody's, which a route brings here
	Former      int               `json:"former-identifiers"` // in the directory's tokens: what accounts had elsewhere, which a server counts by its trait
	Differences []TokenDifference `json:"differences"`
}

// DirectoryProven tells of a proof.
func DirectoryProven(p *doc.Printer, d *DirectoryProof) error {
	heads := []string{"user", "group", "in the token", "identifier"}
	rows := func() (out [][]string) {
		for _, x := range d.Differences {
			where := "there, not here"
			if x.Here {
				where = "here, not there"
			}
			out = append(out, []string{x.User, x.Group, where, x.ID})
		}
		return out
	}
	return p.Give(d, heads, rows, func() {
		if len(d.Differences) > 0 {
			p.Grid(doc.PlainGrid(doc.Heads(heads...), rows()))
			p.Blank()
		}
		if d.Former > 0 {
			p.Line(doc.S("%s that they or their groups had elsewhere are in the directory's tokens; a server that counts them has the trait former-ids.", report.Count(int64(d.Former), "identifier")))
		}
		p.Line(doc.S("Tokens of %s held to directory %s: %s.", report.Count(int64(d.Users), "user"), d.Name, report.Count(int64(len(d.Differences)), "difference")))
	})
}
