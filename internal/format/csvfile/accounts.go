package csvfile

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"tarnwold/core/account"
	"tarnwold/internal/format"
)

// detailColumn is the column of one of format.Details.
func detailColumn(name string) string { return strings.ReplaceAll(name, "-", "_") }

func detailColumns() (columns []string) {
	format.EachDetail(func(name, _ string) { columns = append(columns, detailColumn(name)) })
	return columns
}

// ReadAccounts reads the rows of a sheet of accounts.
func (s *Reader) ReadAccounts() ([]format.AccountRow, error) {
	var out []format.AccountRow
	for {
		ok, err := s.next()
		if !ok {
			return out, err
		}
		a := format.AccountRow{Line: s.line(), PrimaryGID: account.NoPOSIX}
		a.POSIX = account.NoPOSIX
		a.Name = strings.Clone(s.get("name"))
		if a.Kind, err = account.ParseKind(s.get("kind")); err != nil {
			return nil, s.in("kind", "%v", err)
		}
		if sid := s.get("sid"); sid != "" {
			if a.ID, err = account.ParseID(sid); err != nil {
				return nil, s.in("sid", "%v", err)
			}
		}
		if id := s.get("id"); id != "" {
			if a.POSIX, err = account.ParsePOSIX(id); err != nil {
				return nil, s.in("id", "%v", err)
			}
		}
		if a.Purpose, err = account.ParsePurpose(s.get("purpose")); err != nil {
			return nil, s.in("purpose", "%v", err)
		}
		if a.Purpose != account.Unsaid && a.Kind == account.User {
			return nil, s.in("purpose", "a user has no purpose, groups have")
		}
		if p := s.get("primary"); p != "" {
			if a.PrimaryGID, err = account.ParsePOSIX(p); err != nil || a.Kind == account.Group {
				return nil, s.in("primary", "%q: wanted the gid of a user's primary group", p)
			}
		}
		if a.Details, err = s.details(a.Kind); err != nil {
			return nil, err
		}
		out = append(out, a)
	}
}

// details reads what a row of accounts says beside; nil: nothing.
func (s *Reader) details(kind account.Kind) (*format.Details, error) {
	var d *format.Details
	for _, x := range s.beside {
		value := strings.TrimSpace(s.row[x.at])
		if value == "" {
			continue
		}
		err := format.GoodDetail(x.name, value)
		if err == nil && kind != account.User {
			err = fmt.Errorf("a group has no %s, users have", x.name)
		}
		if err != nil {
			return nil, s.at(x.at, 0, "%v", err)
		}
		if d == nil {
			d = &format.Details{}
		}
		d.Set(strings.Clone(x.name), strings.Clone(value))
	}
	return d, nil
}

// besides finds the columns that say what is known of users beside: those known everywhere, and
// all that nothing else is known of.
func (s *Reader) besides(head []string) error {
	known := map[string]string{}
	format.EachDetail(func(name, _ string) { known[detailColumn(name)] = name })
	of := kinds[Accounts]
	for i, column := range head {
		column = strings.TrimSpace(column)
		if name, ok := known[strings.ToLower(column)]; ok {
			s.beside = append(s.beside, beside{i, name})
			continue
		}
		if lower := strings.ToLower(column); slices.Contains(of.needed, lower) || slices.Contains(of.optional, lower) {
			continue
		}
		if err := format.GoodDetailName(column); err != nil {
			return &format.Error{File: s.file, Line: 1, What: fmt.Sprintf("column %d: %v", i+1, err)}
		}
		s.beside = append(s.beside, beside{i, column})
		s.Further = append(s.Further, column)
	}
	if n := len(s.Further); n > mostFurther {
		return &format.Error{File: s.file, Line: 1, What: fmt.Sprintf("%d columns are not known here; %d are kept at most", n, mostFurther)}
	}
	return nil
}

// mostFurther is how many columns of others are kept.
const mostFurther = 40

// beside is a column of details.
type beside struct {
	at   int
	name string
}

// ReadMembers reads the rows of a sheet of members.
func (s *Reader) ReadMembers() (out format.Memberships, err error) {
	for {
		ok, err := s.next()
		if !ok {
			return out, err
		}
		m := format.MemberRow{Line: s.line(), Group: s.get("group"), Member: s.get("member"), Until: s.get("until")}
		if m.Until != "" {
			if _, err := time.Parse(time.DateOnly, m.Until); err != nil {
				return out, s.in("until", "%q is not a day of the form 2027-03-31", m.Until)
			}
		}
		out.Add(m)
	}
}

// ClaimRow is one value of a user's claim; without a claim they have none.
type ClaimRow struct {
	Line                     int
	User, Claim, Kind, Value string
}

// ReadClaims reads the rows of a sheet of claims.
func (s *Reader) ReadClaims() ([]ClaimRow, error) {
	var out []ClaimRow
	for {
		ok, err := s.next()
		if !ok {
			return out, err
		}
		r := ClaimRow{s.line(), strings.Clone(s.get("user")), strings.Clone(s.get("claim")), strings.Clone(s.get("kind")), strings.Clone(s.get("value"))}
		if r.Claim == "" && r.Kind+r.Value != "" {
			return nil, s.in("claim", "a value, and no claim that it is of")
		}
		out = append(out, r)
	}
}
