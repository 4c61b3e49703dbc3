package intake

import (
	"context"
	"crypto/sha256"
	"fmt"
	"slices"
	"strconv"
	"strings"

	acc "tarnwold/core/account"
	"tarnwold/core/place"
	"tarnwold/internal/ask"
	"tarnwold/internal/ask/explain"
	"tarnwold/internal/estate"
	"tarnwold/internal/format"
	"tarnwold/internal/format/trail"
	"tarnwold/internal/plan"
	"tarnwold/internal/plan/request"
)

// RewindTo takes a private estate back to a moment (RFC 3339, UTC), and tells
// whether its journal had begun then; where it hadn't, nothing is done.
func RewindTo(ctx context.Context, p *estate.Estate, moment string) (begun bool, err error) {
	var last int64
	err = p.View(ctx, func(t *estate.Tx) error {
		last, _, _ = t.LastBefore(moment)
		return t.Err()
	})
	if err != nil || last == 0 {
		return false, err
	}
	return true, rewind(ctx, p, last)
}

// rewind takes a private estate back to what a change left.
func rewind(ctx context.Context, p *estate.Estate, change int64) error {
	_, err := p.Change(ctx, estate.Meta{Actor: "what if", Head: estate.Any, Bulk: true}, func(t *estate.Tx) (string, error) {
		t.Rewind(change)
		return "as it was", t.Err()
	})
	return err
}

// TrailLoad counts what a load of a trail brought.
type TrailLoad struct {
	File    string `json:"file"`
	Read    int64  `json:"read"`
	New     int64  `json:"new"`
	Passed  int    `json:"passed-over"` // lines that tell of nothing
	Unknown int64  `json:"users-unknown"`
	Off     int64  `json:"places-unknown"`
}

// Trailing notes who tried what.
type Trailing struct {
	t      *estate.Tx
	server *estate.Server
	shares []estate.Share
	who    map[string]plan.ID
	places map[string]spot
	above  map[string]spot // the folders of places that aren't there
	seen   map[[32]byte]int
	Load   TrailLoad
}

type spot struct {
	server int64
	path   string
	where  string
	folder bool
	known  bool
}

// NewTrailing makes ready to note tries on a server; "" where the records say
// their places whole.
func NewTrailing(t *estate.Tx, server string) (*Trailing, error) {
	x := &Trailing{t: t, who: map[string]plan.ID{}, places: map[string]spot{}, above: map[string]spot{}, seen: map[[32]byte]int{}}
	if server != "" {
		s, err := t.Server(server)
		if err != nil {
			return nil, err
		}
		x.server, x.shares = &s, t.Shares(s)
	}
	return x, nil
}

// account finds who a name in a log means: as it stands, without a domain
// before it or behind it, or by number.
func (x *Trailing) account(name string) plan.ID {
	if id, ok := x.who[name]; ok {
		return id
	}
	var id plan.ID
	find := func(word string) bool {
		a, err := x.t.Named(word, acc.User)
		if err == nil {
			id = a.ID
		}
		return err == nil
	}
	if num, ok := strings.CutPrefix(name, "uid:"); ok {
		if n, err := strconv.ParseUint(num, 10, 32); err == nil {
			number := acc.UID(uint32(n))
			if x.server != nil {
				if own, _ := number.On(estate.ServerRealm(*x.server)); !own.IsZero() {
					if a, ok := x.t.Account(own); ok {
						id = a.ID
					}
				}
			}
			if as := x.t.ByPOSIX(acc.User, uint32(n)); id.IsZero() && len(as) == 1 {
				id = as[0].ID
			}
		}
	} else if !find(name) {
		if _, rest, ok := strings.Cut(name, `\`); ok {
			find(rest)
		} else if at := strings.LastIndexByte(name, '@'); at > 0 {
			find(name[:at])
		}
	}
	x.who[name] = id
	return id
}

// spot finds where a record is about.
func (x *Trailing) spot(r *trail.Record) (spot, error) {
	key := r.Share + "\x00" + r.Path
	if s, ok := x.places[key]; ok {
		return s, nil
	}
	if len(x.places) > 1<<18 {
		clear(x.places)
	}
	s := spot{where: r.Path, path: r.Path}
	address := r.Path
	switch {
	case r.Whole:
	case x.server == nil:
		return s, &estate.Refused{Why: "the records name paths of a server, and not which", Do: "say it: --server NAME"}
	default:
		path := r.Path
		s.server = x.server.ID
		if r.Share != "" {
			for i := range x.shares {
				sh := &x.shares[i]
				if estate.Key(sh.Name) != estate.Key(r.Share) {
					continue
				}
				if path == "" || !strings.HasPrefix(path, "/") {
					path = sh.Folder
				}
				if rest, in := place.Cut(path, sh.Folder); in {
					address = place.Address{Server: x.server.Name, Share: sh.Name, Path: rest}.String()
				} else {
					address = ""
				}
			}
		}
		if address == "" || address == r.Path {
			address = place.Address{Server: x.server.Name, Path: path}.String()
		}
		s.path, s.where = path, address
	}
	a, err := place.Parse(address)
	if err != nil {
		return s, err
	}
	if p, err := x.t.Find(a); err == nil {
		s = spotOf(p)
	} else if near := x.near(a); near.where != "" {
		s = near
	} else if r.Whole {
		if sv, err := x.t.Server(a.Server); err == nil {
			s.server = sv.ID
			s.path = a.Path
			if a.Share != "" {
				if sh, err := x.t.Share(sv, a.Share); err == nil {
					s.path = place.Join(sh.Folder, a.Path)
				}
			}
		}
	}
	x.places[key] = s
	return s, nil
}

func spotOf(p estate.Place) spot { return spot{p.Server.ID, p.Path, p.Via(), p.Folder, true} }

// near names a place that isn't there by what the folders above it are called,
// as far as they are known; the empty spot where none is.
func (x *Trailing) near(a place.Address) spot {
	up, name := a, place.Name(a.Path)
	switch {
	case name == "":
		return spot{}
	case a.Share != "":
		up.Path = strings.TrimSuffix(strings.TrimSuffix(a.Path, name), "/")
	default:
		up.Path = place.Dir(a.Path)
	}
	key := up.String()
	s, ok := x.above[key]
	if !ok {
		if p, err := x.t.Find(up); err == nil {
			s = spotOf(p)
		} else {
			s = x.near(up)
		}
		if len(x.above) > 1<<18 {
			clear(x.above)
		}
		x.above[key] = s
	}
	if s.where == "" {
		return s
	}
	at, err := place.Parse(s.where)
	if err != nil {
		return spot{}
	}
	if at.Share == "" {
		at.Path = place.Join(at.Path, name)
	} else {
		at.Path = strings.TrimPrefix(at.Path+"/"+name, "/")
	}
	return spot{server: s.server, path: place.Join(s.path, name), where: at.String()}
}

// Add notes one try.
func (x *Trailing) Add(r trail.Record) error {
	s, err := x.spot(&r)
	if err != nil {
		return err
	}
	act := r.Act
	if s.known && s.folder {
		switch act {
		case "read":
			act = "list"
		case "save":
			act = "create"
		}
	}
	who := x.account(r.User)
	x.Load.Read++
	if who.IsZero() {
		x.Load.Unknown++
	}
	if !s.known {
		x.Load.Off++
	}
	server := ""
	if x.server != nil {
		server = x.server.Name
	}
	sum := sha256.Sum256([]byte(server + "\x00" + r.Raw))
	n := x.seen[sum]
	x.seen[sum] = n + 1
	if n > 0 { // the same line again, in one file: it happened again
		sum = sha256.Sum256([]byte(fmt.Sprintf("%d\x00%s\x00%s", n, server, r.Raw)))
	}
	x.t.AddTrail(estate.Trailed{Who: r.User, Account: who, Act: act, Place: s.where, Server: s.server, Path: s.path, Result: int64(r.Result), First: r.At.Unix()}, sum[:16])
	return x.t.Err()
}

// Tried is who tried what, how often, with what came of it.
type Tried struct {
	Who    string `json:"who"`
	Known  bool   `json:"known"` // the estate knows them
	Act    string `json:"act"`
	Where  string `json:"where"`
	Result string `json:"result"` // granted, refused, failed (it isn't told why)
	Times  int64  `json:"times"`
	First  string `json:"first"` // RFC 3339, UTC
	Last   string `json:"last"`
	// Then is what the estate says of it, as it was at the last time: why it
	// was refused, or that it would have been allowed. AsOf: then, or now where
	// the estate knew nothing then.
	Then  *explain.Tried `json:"then,omitempty"`
	AsOf  string         `json:"as-of,omitempty"`
	Fault string         `json:"fault,omitempty"` // why the estate can't be asked
	// Asked is their last request for the place; 0: none. Request asks for it.
	Asked   int64    `json:"request,omitempty"`
	Request []string `json:"command,omitempty"`
}

// Trail is what was tried.
type Trail struct {
	List []Tried `json:"tried"`
	More int64   `json:"more"`
}

// asksFor is the level that lets somebody do an act.
var asksFor = map[string]string{"list": "read", "read": "read", "read-rules": "read", "save": "revise", "create": "add", "make-folder": "add", "delete": "edit", "rename": "edit",
	"change-rules": "full", "take-owner": "full"}

// TrailQuestion narrows a trail, as it was typed.
type TrailQuestion struct {
	Who, Where string
	Refused    bool
	Since      estate.Day
	Limit      int
}

// filter reads a question.
func (q *TrailQuestion) filter(t *estate.Tx) (f estate.TrailFilter, err error) {
	f.Refused = q.Refused
	if q.Since != "" {
		f.Since = q.Since.Begins().Unix()
	}
	if q.Who != "" {
		f.Who = q.Who
		a, err := t.Named(q.Who, 0)
		switch {
		case err != nil:
			if rows, _ := t.Trail(estate.TrailFilter{Who: q.Who}, 1); len(rows) == 0 {
				return f, err
			}
		case a.Kind == acc.User:
			f.Accounts = []plan.ID{a.ID}
		default:
			for _, m := range t.Directory().MembersBelow(a.ID) {
				f.Accounts = append(f.Accounts, m.ID)
			}
			if len(f.Accounts) > 2000 {
				return f, &estate.Refused{Why: fmt.Sprintf("%s has more than 2,000 members", q.Who), Do: "ask for fewer"}
			}
		}
	}
	if q.Where != "" {
		p, err := t.FindText(q.Where)
		if err != nil {
			return f, err
		}
		f.Server, f.Path = p.Server.ID, p.Path
	}
	return f, t.Err()
}

// Look lists who tried what, those most often first, every refusal explained
// by the estate as it was then.
func (q TrailQuestion) Look(ctx context.Context, e *estate.Estate, step func(string)) (*Trail, error) {
	out := &Trail{List: []Tried{}}
	var rows []estate.Trailed
	byChange := map[int64][]int{}
	var order []int64
	err := e.View(ctx, func(t *estate.Tx) error {
		f, err := q.filter(t)
		if err != nil {
			return err
		}
		rows, out.More = t.Trail(f, q.Limit)
		requests, err := request.Requests(t)
		if err != nil {
			return err
		}
		for i := range rows {
			r := &rows[i]
			x := Tried{Who: r.Who, Act: r.Act, Where: r.Place, Result: trail.Result(r.Result).String(), Times: r.Times, First: plan.Moment(r.First), Last: plan.Moment(r.Last)}
			if a, ok := t.Account(r.Account); ok {
				x.Who, x.Known = t.Name(a.ID), true
			}
			if r.Result != 0 {
				last, _, _ := t.LastBefore(plan.Moment(r.Last + 1))
				if byChange[last] == nil {
					order = append(order, last)
				}
				byChange[last] = append(byChange[last], i)
				for _, o := range requests {
					if plan.SameKey(o.Where, r.Place) && slices.ContainsFunc(o.Who, func(a request.Asking) bool { return a.ID == r.Account.String() }) {
						x.Asked = o.Number
					}
				}
			}
			out.List = append(out.List, x)
		}
		return nil
	})
	if err != nil {
		return nil, err
	}
	slices.Sort(order)
	for _, change := range order {
		if step != nil {
			step("asking how it was then")
		}
		err := e.Private(ctx, func(p *estate.Estate) error {
			asOf := "then"
			if change == 0 {
				asOf = "now"
			} else if err := rewind(ctx, p, change); err != nil {
				return err
			}
			return p.View(ctx, func(t *estate.Tx) error {
				k := ask.New(t)
				for _, i := range byChange[change] {
					x, r := &out.List[i], &rows[i]
					x.AsOf = asOf
					why(k, t, x, r)
					if err := t.Err(); err != nil {
						return err
					}
				}
				return ctx.Err()
			})
		})
		if err != nil {
			return nil, err
		}
	}
	for i := range out.List {
		x := &out.List[i]
		if x.Then != nil && !x.Then.Allowed && x.Result == "failed" {
			x.Result = "refused"
		}
		if x.Result == "refused" && x.Known && (x.Then == nil || !x.Then.Allowed) && x.Asked == 0 && asksFor[x.Act] != "" && strings.HasPrefix(x.Where, "//") {
			where := x.Where
			if x.Then != nil && (x.Then.Act == "create" || x.Then.Act == "make-folder") { // the folder it is made in
				if i := strings.LastIndexByte(x.Then.Where, '/'); i > 2 {
					where = x.Then.Where[:i]
				}
			}
			x.Request = []string{"tarnwold", "request", x.Who, asksFor[x.Act], where, "--why", "TEXT"}
		}
	}
	return out, nil
}

// why asks the estate as it stands about one try.
func why(k *ask.Asker, t *estate.Tx, x *Tried, r *estate.Trailed) {
	a, ok := t.Account(r.Account)
	if !ok {
		x.Fault = "nobody the estate knew was called that"
		return
	}
	act, where := r.Act, r.Place
	at, err := t.FindText(where)
	switch act {
	case "create", "make-folder":
		if err == nil && at.Folder { // the folder is named, and not what was to be made in it
			where = strings.TrimRight(where, "/") + "/new"
		} else if err == nil {
			act = "save"
		}
	case "list", "read":
		if err == nil {
			act = map[bool]string{true: "list", false: "read"}[at.Folder]
		}
	case "rename":
		act = "delete" // which renaming needs too, and the folder's right to add
	}
	got, err := explain.Try(k, "user:"+a.Name, act, where, "", false)
	if err != nil {
		x.Fault = format.Clip(err.Error())
		return
	}
	x.Then = got
}
