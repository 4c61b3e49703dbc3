package edit

import (
	"fmt"
	"slices"

	acc "tarnwold/core/account"
	"tarnwold/core/rule"
	"tarnwold/internal/estate"
	"tarnwold/internal/store"
)

// Journal is what a change did, as the journal has it: every row it altered, once,
// all in all, in the order in which they were altered first.
type Journal struct {
	Servers        Table[ServerRow]
	Links          Table[LinkRow]
	Accounts       Table[acc.Account]
	Members        Table[MemberRow]
	Administrators Table[AdministratorRow]
	Shares         Table[ShareRow]
	Admissions     Table[AdmissionRow]
	Strands        Table[StrandRow]
	Items          Table[ItemRow]
	Trees          Table[TreeRow]
	Levels         Table[string]
	LastDays       Table[LastDayRow]
	Records        Table[estate.Record]
	Loaded         []Raw // rows that were made at once, by their range alone
	Empty          bool  // it altered nothing
}

// Table is the rows of one table that a change altered.
type Table[T any] struct {
	List []Row[T]
	at   map[int64]int
}

// Of finds what the change did to a row; nil: nothing.
func (x *Table[T]) Of(id int64) *Row[T] {
	if i, ok := x.at[id]; ok {
		return &x.List[i]
	}
	return nil
}

// Made tells whether the change made a row.
func (x *Table[T]) Made(id int64) bool { r := x.Of(id); return r != nil && r.Made() }

// take takes in one row of the journal.
func (x *Table[T]) take(s *shape[T], r *store.Row) error {
	if i, ok := x.at[r.ID]; ok { // altered again: from the first before to the last after
		raw := x.List[i].raw
		raw.After = r.After
		var err error
		x.List[i], err = s.row(raw)
		return err
	}
	row, err := s.row(&Raw{Table: r.Table, Row: r.ID, Before: r.Before, After: r.After})
	if x.at == nil {
		x.at = map[int64]int{}
	}
	x.at[r.ID] = len(x.List)
	x.List = append(x.List, row)
	return err
}

// settle leaves out what was made and taken out again.
func (x *Table[T]) settle() {
	nothing := func(r Row[T]) bool { return r.Before == nil && r.After == nil }
	if !slices.ContainsFunc(x.List, nothing) {
		return
	}
	x.List = slices.DeleteFunc(x.List, nothing)
	clear(x.at)
	for i := range x.List {
		x.at[x.List[i].ID] = i
	}
}

// ReadJournal reads what a change did.
func ReadJournal(t *estate.Tx, change int64) (*Journal, error) {
	j := &Journal{Empty: true}
	for _, r := range t.Rows(change) {
		j.Empty = false
		if r.Last != 0 {
			j.Loaded = append(j.Loaded, Raw{Table: r.Table, Row: r.ID, Last: r.Last})
			continue
		}
		if err := j.take(&r); err != nil {
			return nil, fmt.Errorf("%w: row %d of %s, as change %d left it: %w", store.ErrDamaged, r.ID, r.Table, change, err)
		}
	}
	j.Servers.settle()
	j.Links.settle()
	j.Accounts.settle()
	j.Members.settle()
	j.Administrators.settle()
	j.Shares.settle()
	j.Admissions.settle()
	j.Strands.settle()
	j.Items.settle()
	j.Trees.settle()
	j.Levels.settle()
	j.LastDays.settle()
	j.Records.settle()
	return j, t.Err()
}

func (j *Journal) take(r *store.Row) error {
	switch r.Table {
	case "servers":
		return j.Servers.take(&serverRows, r)
	case "links":
		return j.Links.take(&linkRows, r)
	case "accounts":
		return j.Accounts.take(&accountRows, r)
	case "members":
		return j.Members.take(&memberRows, r)
	case "administrators":
		return j.Administrators.take(&administratorRows, r)
	case "shares":
		return j.Shares.take(&shareRows, r)
	case "admissions":
		return j.Admissions.take(&admissionRows, r)
	case "strands":
		return j.Strands.take(&strandRows, r)
	case "items":
		return j.Items.take(&itemRows, r)
	case "trees":
		return j.Trees.take(&treeRows, r)
	case "levels":
		return j.Levels.take(&levelRows, r)
	case "deadlines":
		return j.LastDays.take(&lastDayRows, r)
	case "papers":
		return j.Records.take(&recordRows, r)
	}
	return nil
}

// RowWords are what describing rows takes beside: what stands in the estate now under
// the numbers that rows name each other by.
type RowWords interface {
	Words
	// RowName names an account by its row.
	RowName(row int64) string
	// ServerName names a server by its row; "" where it is gone.
	ServerName(row int64) string
	// Rules gives rules by their number.
	Rules(descriptor int64) rule.Any
	// Where says where an item is.
	Where(item int64) string
	// Record tells of a record that comes, goes or changes.
	Record(kind estate.RecordKind, name, body string, sign Sign) Description
}

// DescribeRow tells in words what the journal has of one row; ok is false where it
// is told of elsewhere, as rules are.
func DescribeRow(w RowWords, r *store.Row) (out Description, ok bool, err error) {
	tell := rowsInWords[r.Table]
	if tell == nil {
		return out, false, nil
	}
	out, err = tell(w, &Raw{Table: r.Table, Row: r.ID, Before: r.Before, After: r.After})
	return out, len(out.Lines) > 0 || out.Kind == "account" || out.Kind == "server", err
}

// rowsInWords are the tables whose rows are told of.
var rowsInWords = map[string]func(w RowWords, raw *Raw) (Description, error){
	"servers": inWords(&serverRows, describeServer),
	"accounts": inWords(&accountRows, func(w RowWords, x *Row[acc.Account]) Description {
		return (&Account{Before: x.Before, After: x.After}).Describe(w)
	}),
	"members":        inWords(&memberRows, describeMember),
	"administrators": inWords(&administratorRows, describeAdministrator),
	"shares":         inWords(&shareRows, describeShare),
	"items":          inWords(&itemRows, describeItem),
	"levels": inWords(&levelRows, func(_ RowWords, x *Row[string]) Description {
		return one("level", "level "+*x.Either(), x.Sign(), "level", "")
	}),
	"deadlines": inWords(&lastDayRows, func(_ RowWords, x *Row[LastDayRow]) Description {
		return one("last-day", "last day", x.Sign(), "last-day", string(x.Either().Until))
	}),
	"papers": inWords(&recordRows, func(w RowWords, x *Row[estate.Record]) Description {
		e := x.Either()
		return w.Record(e.Kind, e.Name, e.Body, x.Sign())
	}),
}

// inWords tells of a table's rows as they are read.
func inWords[T any](s *shape[T], tell func(w RowWords, x *Row[T]) Description) func(RowWords, *Raw) (Description, error) {
	return func(w RowWords, raw *Raw) (Description, error) {
		x, err := s.row(raw)
		if err != nil || x.Before == nil && x.After == nil {
			return Description{}, err
		}
		return tell(w, &x), nil
	}
}

// one is a description of one line.
func one(kind, where string, sign Sign, what, text string) Description {
	return Description{Kind: kind, Where: where, Lines: []Line{{Sign: sign, What: what, Text: text}}}
}

func describeServer(w RowWords, x *Row[ServerRow]) Description {
	if x.Before == nil || x.After == nil {
		return one("server", "server "+x.Either().Name, x.Sign(), "server", "")
	}
	server := func(s *ServerRow) *estate.Server { return &estate.Server{Name: s.Name, Traits: s.Traits} }
	return (&Server{Before: server(x.Before), After: server(x.After)}).Describe(w)
}

func describeMember(w RowWords, x *Row[MemberRow]) Description {
	m := x.Either()
	text := w.RowName(m.Member)
	if m.Is.Until != "" {
		text += " until " + string(m.Is.Until)
	}
	return one("membership", "group "+w.RowName(m.Group), x.Sign(), "membership", text)
}

func describeAdministrator(w RowWords, x *Row[AdministratorRow]) Description {
	where := "a server no longer there"
	if name := w.ServerName(x.Either().Server); name != "" {
		where = "server " + name
	}
	return one("administrator", where, x.Sign(), "administrator", w.RowName(x.Either().Account))
}

func describeShare(w RowWords, x *Row[ShareRow]) Description {
	where := "share " + x.Either().Name
	if name := w.ServerName(x.Either().Server); name != "" {
		where = "share //" + name + "/" + x.Either().Name
	}
	if x.Before == nil || x.After == nil {
		return one("share", where, x.Sign(), "share", "over "+x.Either().Folder)
	}
	return Description{Kind: "share", Where: where, Lines: w.Diff(w.Rules(x.Before.Descriptor), w.Rules(x.After.Descriptor), false, nil, nil)}
}

func describeItem(w RowWords, x *Row[ItemRow]) Description {
	switch {
	case x.Before == nil || x.After == nil:
		return one("item", "item "+x.Either().Name, x.Sign(), "item", "")
	case x.Before.Parent != x.After.Parent || x.Before.Name != x.After.Name:
		return one("item", "item "+x.Before.Name, Moves, "place", w.Where(x.ID))
	}
	return Description{}
}
