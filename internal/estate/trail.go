package estate

import (
	"database/sql"

	"tarnwold/core/account"
)

// Trailed is who tried what, as a server wrote it down, as often as it did.
type Trailed struct {
	Who     string     // as it was written
	Account account.ID // zero: nobody the estate knew then
	Act     string
	Place   string // an address as it can be asked for
	Server  int64  // 0: none the estate knew
	Path    string // the server's own
	Result  int64  // 0 granted, 1 refused, 2 failed: it isn't told why
	Times   int64
	First   int64 // in seconds since 1970
	Last    int64
}

// AddTrail notes one try, once however often it is noted: sum tells it from
// others.
func (t *Tx) AddTrail(x Trailed, sum []byte) {
	who := ""
	if !x.Account.IsZero() {
		who = x.Account.String()
	}
	t.Exec("INSERT OR IGNORE INTO trail(sum, at, who, account, act, place, server, path, refused, source) VALUES(?,?,?,?,?,?,?,?,?,'')",
		sum, x.First, x.Who, who, x.Act, x.Place, x.Server, x.Path, x.Result)
}

// TrailSize counts the tries that were ever noted.
func (t *Tx) TrailSize() int64 {
	if !t.Knows("trail") {
		return 0
	}
	return t.Int("SELECT coalesce(max(id),0) FROM trail")
}

// TrailFilter narrows a trail.
type TrailFilter struct {
	Accounts []account.ID
	Who      string // a name as it was written; "": anybody
	Server   int64  // with Path: at and below it
	Path     string
	Since    int64
	Refused  bool // and failed
	Granted  bool
}

func (f *TrailFilter) where() (string, []any) {
	q, args := "at>=?", []any{f.Since}
	if len(f.Accounts) > 0 || f.Who != "" {
		q += " AND ("
		for i, id := range f.Accounts {
			if i > 0 {
				q += " OR "
			}
			q += "account=?"
			args = append(args, id.String())
		}
		if f.Who != "" {
			if len(f.Accounts) > 0 {
				q += " OR "
			}
			q += "who=?"
			args = append(args, f.Who)
		}
		q += ")"
	}
	if f.Server != 0 {
		q += " AND server=?"
		args = append(args, f.Server)
		if f.Path != "/" {
			q += " AND (path=? OR path>=? AND path<?)"
			args = append(args, f.Path, f.Path+"/", f.Path+"0") // '0' is next to '/'
		}
	}
	switch {
	case f.Refused:
		q += " AND refused<>0"
	case f.Granted:
		q += " AND refused=0"
	}
	return q, args
}

// Trail lists who tried what, those most often first.
func (t *Tx) Trail(f TrailFilter, limit int) (out []Trailed, more int64) {
	if !t.Knows("trail") {
		return nil, 0
	}
	q, args := f.where()
	t.Each("SELECT who, account, act, place, server, path, refused, count(*), min(at), max(at) FROM trail WHERE "+q+
		" GROUP BY who, account, act, place, server, path, refused ORDER BY count(*) DESC, max(at) DESC, who, place, act", args, func(r *sql.Rows) error {
		var x Trailed
		var sid string
		if err := r.Scan(&x.Who, &sid, &x.Act, &x.Place, &x.Server, &x.Path, &x.Result, &x.Times, &x.First, &x.Last); err != nil {
			return err
		}
		if limit > 0 && len(out) >= limit {
			more++
			return nil
		}
		var err error
		if sid != "" {
			x.Account, err = account.ParseID(sid)
		}
		out = append(out, x)
		return err
	})
	return out, more
}

// TrailUsers gives when each account was last seen using something; what it
// was refused doesn't count.
func (t *Tx) TrailUsers(f TrailFilter) map[account.ID]int64 {
	out := map[account.ID]int64{}
	if !t.Knows("trail") {
		return out
	}
	f.Refused, f.Granted = false, true
	q, args := f.where()
	t.Each("SELECT account, max(at) FROM trail WHERE "+q+" AND account<>'' GROUP BY account", args, func(r *sql.Rows) error {
		var sid string
		var at int64
		err := r.Scan(&sid, &at)
		if id, perr := account.ParseID(sid); perr == nil {
			out[id] = at
		}
		return err
	})
	return out
}

// TrailSpan gives when a server's trail begins and ends; zeros where there is none.
func (t *Tx) TrailSpan(server int64) (first, last int64) {
	if t.Knows("trail") {
		t.One("SELECT coalesce(min(at),0), coalesce(max(at),0) FROM trail WHERE server=?", []any{server}, &first, &last)
	}
	return first, last
}
