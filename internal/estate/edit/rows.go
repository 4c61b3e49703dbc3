package edit

import (
	acc "tarnwold/core/account"
	"tarnwold/core/verdict"
	"tarnwold/internal/estate"
	"tarnwold/internal/store"
)

// Raw is a row as it lies in the file, before and after; nil: it isn't there. With
// Last it is the rows Row to Last, which come or go at once.
type Raw struct {
	Table         string
	Row, Last     int64
	Before, After []any
}

// put brings the row back under its old number.
func (r *Raw) put(t *estate.Tx) { t.Put(r.Table, r.Row, r.After) }

// remove takes the row out, or all of them.
func (r *Raw) remove(t *estate.Tx) { t.DeleteRange(r.Table, r.Row, max(r.Row, r.Last)) }

// Gone takes rows first to last of a table out.
func Gone(table string, first, last int64) Raw {
	return Raw{Table: table, Row: first, Last: last}
}

// Row is what a change did to one row of a table, all in all: from its first before
// to its last after; nil: it wasn't, or isn't there.
type Row[T any] struct {
	ID            int64
	Before, After *T
	raw           *Raw
}

// Made tells whether the change made the row.
func (r *Row[T]) Made() bool { return r.Before == nil && r.After != nil }

// Gone tells whether the change took the row out.
func (r *Row[T]) Gone() bool { return r.Before != nil && r.After == nil }

// Either gives the row as it became, or as it was where it went.
func (r *Row[T]) Either() *T {
	if r.After != nil {
		return r.After
	}
	return r.Before
}

// Sign tells what became of the row.
func (r *Row[T]) Sign() Sign { return signOf(r.Before != nil, r.After != nil) }

// Back is what puts the row back as it was before, to the byte; of one that was
// made, what takes it out.
func (r *Row[T]) Back() Raw {
	return Raw{Table: r.raw.Table, Row: r.ID, Last: r.ID, After: r.raw.Before}
}

// The rows of tables, as they are journaled.
type (
	// MemberRow is a membership, its accounts by row.
	MemberRow struct {
		Group, Member int64
		Is            estate.Membership
	}
	// ServerRow is a server and its traits.
	ServerRow struct {
		Name   string
		Traits verdict.Traits
	}
	// AdministratorRow is an account on a server's list, both by row.
	AdministratorRow struct{ Server, Account int64 }
	// LinkRow is how a server is reached.
	LinkRow struct {
		Server int64
		Link   estate.Link
	}
	// ShareRow is a share; Descriptor is the number of its rules.
	ShareRow struct {
		Server       int64
		Name, Folder string
		ReadOnly     bool
		Descriptor   int64
	}
	// AdmissionRow is what a configuration says of a share.
	AdmissionRow struct {
		Share int64
		Is    *estate.Admission
	}
	// StrandRow is a strand; Descriptor is the number of its rules.
	StrandRow struct {
		Parent, Descriptor int64
		Folder             bool
		raw                []any
	}
	// ItemRow is an item in its folder.
	ItemRow struct {
		Parent int64
		Name   string
		Strand int64
	}
	// TreeRow is where the top of a tree stands.
	TreeRow struct {
		Server int64
		Path   string
		Item   int64
	}
	// LastDayRow is the last day of an entry, by the whole entry.
	LastDayRow struct {
		Of    estate.Bearer
		Entry string
		Until estate.Day
	}
)

// Under gives a strand's row with another parent, to be put back so.
func (s *StrandRow) under(parent int64) []any {
	v := append([]any{}, s.raw...)
	v[0] = parent
	return v
}

// shape reads a table's rows: the one place that knows their columns by number.
type shape[T any] struct {
	table string
	read  func(v []any) (*T, error)
}

var (
	accountRows = shape[acc.Account]{"accounts", func(v []any) (*acc.Account, error) {
		a := &acc.Account{Kind: acc.Kind(store.Number(v, 0)), Name: store.Text(v, 1), POSIX: store.Number(v, 4), Purpose: acc.Purpose(store.Text(v, 6))}
		var err error
		if a.ID, err = acc.ParseID(store.Text(v, 3)); err == nil && store.Text(v, 5) != "" {
			a.Primary, err = acc.ParseID(store.Text(v, 5))
		}
		return a, err
	}}
	memberRows = shape[MemberRow]{"members", func(v []any) (*MemberRow, error) {
		return &MemberRow{store.Number(v, 0), store.Number(v, 1), estate.Membership{Until: estate.Day(store.Text(v, 2)), Local: store.Number(v, 3) != 0}}, nil
	}}
	serverRows = shape[ServerRow]{"servers", func(v []any) (*ServerRow, error) {
		traits, err := estate.ParseTraits(store.Text(v, 2))
		return &ServerRow{store.Text(v, 0), traits}, err
	}}
	administratorRows = shape[AdministratorRow]{"administrators", func(v []any) (*AdministratorRow, error) {
		return &AdministratorRow{store.Number(v, 0), store.Number(v, 1)}, nil
	}}
	linkRows = shape[LinkRow]{"links", func(v []any) (*LinkRow, error) {
		return &LinkRow{store.Number(v, 0), estate.Link{Kind: store.Text(v, 1), Text: store.Text(v, 2)}}, nil
	}}
	shareRows = shape[ShareRow]{"shares", func(v []any) (*ShareRow, error) {
		return &ShareRow{store.Number(v, 0), store.Text(v, 1), store.Text(v, 3), store.Number(v, 4) != 0, store.Number(v, 5)}, nil
	}}
	admissionRows = shape[AdmissionRow]{"admissions", func(v []any) (*AdmissionRow, error) {
		a, err := estate.ParseAdmission(store.Text(v, 1))
		return &AdmissionRow{store.Number(v, 0), a}, err
	}}
	strandRows = shape[StrandRow]{"strands", func(v []any) (*StrandRow, error) {
		return &StrandRow{store.Number(v, 0), store.Number(v, 1), store.Number(v, 2) != 0, v}, nil
	}}
	itemRows = shape[ItemRow]{"items", func(v []any) (*ItemRow, error) {
		return &ItemRow{store.Number(v, 0), store.Text(v, 1), store.Number(v, 2)}, nil
	}}
	treeRows = shape[TreeRow]{"trees", func(v []any) (*TreeRow, error) {
		return &TreeRow{store.Number(v, 0), store.Text(v, 1), store.Number(v, 2)}, nil
	}}
	levelRows = shape[string]{"levels", func(v []any) (*string, error) {
		name := store.Text(v, 0)
		return &name, nil
	}}
	lastDayRows = shape[LastDayRow]{"deadlines", func(v []any) (*LastDayRow, error) {
		return &LastDayRow{estate.Bearer{Item: store.Number(v, 0), Share: store.Number(v, 1)}, store.Text(v, 2), estate.Day(store.Text(v, 3))}, nil
	}}
	recordRows = shape[estate.Record]{"papers", func(v []any) (*estate.Record, error) {
		return &estate.Record{Kind: estate.RecordKind(store.Text(v, 0)), Name: store.Text(v, 1), Body: store.Text(v, 2)}, nil
	}}
)

// row reads what a change did to one row.
func (s *shape[T]) row(raw *Raw) (Row[T], error) {
	r := Row[T]{ID: raw.Row, raw: raw}
	var err error
	if raw.Before != nil {
		r.Before, err = s.read(raw.Before)
	}
	if raw.After != nil && err == nil {
		r.After, err = s.read(raw.After)
	}
	return r, err
}

// now reads a row as it stands; nil: it isn't there.
func (s *shape[T]) now(t *estate.Tx, id int64) (*T, error) {
	v := t.Now(s.table, id)
	if v == nil {
		return nil, t.Err()
	}
	return s.read(v)
}

// ServerNow, StrandNow and TreeNow read a row as it stands; nil: it isn't there.
func ServerNow(t *estate.Tx, id int64) (*ServerRow, error) { return serverRows.now(t, id) }
func StrandNow(t *estate.Tx, id int64) (*StrandRow, error) { return strandRows.now(t, id) }
func TreeNow(t *estate.Tx, id int64) (*TreeRow, error)     { return treeRows.now(t, id) }

// Under gives a strand that was taken out, to be put back with another parent.
func Under(row Row[StrandRow], parent int64) Raw {
	back := row.Back()
	back.After = row.Before.under(parent)
	return back
}
