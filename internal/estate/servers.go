package estate

import (
	"database/sql"
	"encoding/json"
	"fmt"
	"slices"
	"strings"

	"tarnwold/core/account"
	"tarnwold/core/place"
	"tarnwold/core/rule"
	"tarnwold/core/verdict"
	"tarnwold/internal/store"
)

// Server is a server with its traits.
type Server struct {
	ID     int64
	Name   string
	Traits verdict.Traits
}

// Share is a share of a server.
type Share struct {
	ID         int64
	ServerID   int64
	Server     string // the server's name
	Name       string
	Folder     string // the server's own path, beginning with /
	ReadOnly   bool
	Descriptor *rule.Descriptor
	Admission  *Admission // what the server's own configuration adds; nil: nothing
}

// Cut tells whether a path of the server is at or below the share's folder,
// in whatever case, and gives the rest.
func (s *Share) Cut(path string) (rest string, ok bool) {
	if rest, ok = place.Cut(path, s.Folder); ok {
		return rest, true
	}
	if !place.Under(store.Key(path), store.Key(s.Folder)) {
		return "", false
	}
	parts := strings.Split(path, "/")
	return strings.Join(parts[strings.Count(s.Folder, "/")+1:], "/"), true
}

// Covers tells whether a path of the server is at or below the share's folder.
func (s *Share) Covers(path string) bool { _, ok := s.Cut(path); return ok }

// Begins tells whether a path is the share's own folder.
func (s *Share) Begins(path string) bool { rest, ok := s.Cut(path); return ok && rest == "" }

// Address writes the share's own address.
func (s Share) Address() string { return fmt.Sprintf("//%s/%s", s.Server, s.Name) }

func (t *Tx) serversWhere(where string, args ...any) (out []Server) {
	args = append([]any{builtinKeys[0], builtinKeys[1], ownSIDs[0], ownSIDs[1]}, args...)
	t.Each("SELECT id, name, traits, EXISTS(SELECT 1 FROM accounts WHERE accounts.key>=? AND accounts.key<?), EXISTS(SELECT 1 FROM accounts WHERE accounts.sid>=? AND accounts.sid<?) FROM servers WHERE "+where+" ORDER BY servers.key", args, func(r *sql.Rows) error {
		var s Server
		var traits string
		var builtins, own bool
		if err := r.Scan(&s.ID, &s.Name, &traits, &builtins, &own); err != nil {
			return err
		}
		if !builtins && t.builtins == nil { // as in most estates: nothing more is asked
			t.builtins = []account.Account{}
		}
		if !own && t.machines == nil {
			t.machines = map[account.ID]bool{}
		}
		var err error
		if s.Traits, err = ParseTraits(traits); err != nil {
			return fmt.Errorf("%w: the traits of server %d", store.ErrDamaged, s.ID)
		}
		out = append(out, s)
		return nil
	})
	return t.realmed(out)
}

// Servers lists all servers by name.
func (t *Tx) Servers() []Server { return t.serversWhere("1=1") }

// FindServer finds a server by name; ok is false where there is none.
func (t *Tx) FindServer(name string) (s Server, ok bool) {
	found := t.serversWhere("key=?", store.Key(name))
	if len(found) == 0 {
		return s, false
	}
	return found[0], true
}

// Server finds a server by name.
func (t *Tx) Server(name string) (Server, error) {
	s, ok := t.FindServer(name)
	if err := t.Err(); err != nil {
		return s, err
	}
	if !ok {
		return s, &NotFound{What: "server", Name: name, Near: Nearest(name, t.Strings("SELECT name FROM servers"))}
	}
	return s, nil
}

func (t *Tx) serverByRow(id int64) Server {
	if s, ok := t.servers[id]; ok {
		return s
	}
	for _, s := range t.serversWhere("id=?", id) {
		t.servers[id] = s
		return s
	}
	return Server{}
}

// AddServer puts a new server in.
func (t *Tx) AddServer(name string, traits verdict.Traits) Server {
	js, err := json.Marshal(traits)
	t.Fail(err)
	id := t.Exec("INSERT INTO servers(name, key, traits) VALUES(?,?,?)", name, store.Key(name), string(js))
	t.Made("servers", id, id)
	return Server{ID: id, Name: name, Traits: traits}
}

// Link is how a server of the estate is reached, where it is a real one.
type Link struct {
	Kind string // the protocol
	Text string // JSON, of the protocol's package
}

// Kinds of links: of a server that is reached over SMB, and of one that is this machine itself.
const (
	SMBLink   = "smb"
	LocalLink = "local"
)

// SignsOnAs is the user that a link signs on as, by the name of their domain where the link
// says one; empty: it says none.
func (l Link) SignsOnAs() string {
	var x struct{ User, Domain string }
	if json.Unmarshal([]byte(l.Text), &x) != nil || x.Domain == "" {
		return x.User
	}
	return x.Domain + `\` + x.User
}

// Link gives a server's link; ok is false where it has none.
func (t *Tx) Link(s Server) (l Link, ok bool) {
	ok = t.Knows("links") && t.One("SELECT kind, link FROM links WHERE server=?", []any{s.ID}, &l.Kind, &l.Text)
	return l, ok
}

// Links gives the links of all servers that have one, by their row.
func (t *Tx) Links() map[int64]Link {
	out := map[int64]Link{}
	if t.Knows("links") {
		t.Each("SELECT server, kind, link FROM links", nil, func(r *sql.Rows) error {
			var id int64
			var l Link
			err := r.Scan(&id, &l.Kind, &l.Text)
			out[id] = l
			return err
		})
	}
	return out
}

// ReachesOut tells whether any server is a real one, or any directory is written to.
func (t *Tx) ReachesOut() bool {
	if !t.Knows("links") || !t.Knows("papers") {
		return false
	}
	// A quote within a name is escaped in JSON, so that no name reads like this.
	return t.Int("SELECT EXISTS(SELECT 1 FROM links) OR EXISTS(SELECT 1 FROM papers WHERE kind=? AND body LIKE ?)", DirectoryRecord, `%"writes":true%`) != 0
}

// TreeRows lists the rows of a server's trees.
func (t *Tx) TreeRows(s Server) []int64 { return t.Ints("SELECT id FROM trees WHERE server=?", s.ID) }

// LinkRow gives the row of a server's link; 0 where it has none.
func (t *Tx) LinkRow(s Server) int64 {
	if !t.Knows("links") {
		return 0
	}
	return t.Int("SELECT id FROM links WHERE server=?", s.ID)
}

// SetLink links a server to a real one.
func (t *Tx) SetLink(s Server, l Link) {
	t.Exec("INSERT INTO links(server, kind, link) VALUES(?,?,?)", s.ID, l.Kind, l.Text)
}

// Relink links a server to another real one; nil: to none.
func (t *Tx) Relink(s Server, l *Link) {
	row := t.LinkRow(s)
	switch {
	case l == nil && row != 0:
		t.Delete("links", row)
	case l == nil:
	case row != 0:
		t.Set("links", row, "link", l.Text)
		t.Set("links", row, "kind", l.Kind)
	default:
		t.SetLink(s, *l)
	}
}

// ParseTraits reads traits as they are kept. Those of privileges, which weren't kept once,
// are of the set that they began as: no privilege was known then.
func ParseTraits(js string) (traits verdict.Traits, err error) {
	var began struct {
		Name string `json:"name"`
	}
	if err = json.Unmarshal([]byte(js), &began); err != nil {
		return traits, err
	}
	if set, err := verdict.NamedTraits(began.Name); err == nil {
		traits.PrivilegesPass, traits.ShareWholeForTakers = set.PrivilegesPass, set.ShareWholeForTakers
	}
	err = json.Unmarshal([]byte(js), &traits)
	traits.Powers = traits.Powers.One()
	return traits, err
}

// SetTraits gives a server other traits.
func (t *Tx) SetTraits(s Server, traits verdict.Traits) {
	js, err := json.Marshal(traits)
	t.Fail(err)
	t.Exec("UPDATE servers SET traits=? WHERE id=?", string(js), s.ID)
	delete(t.servers, s.ID)
}

// Administrators lists the identifiers on a server's list of administrators.
func (t *Tx) Administrators(s Server) (out []account.ID) {
	for _, sid := range t.Strings("SELECT a.sid FROM administrators d JOIN accounts a ON a.id=d.account WHERE d.server=? ORDER BY a.key", s.ID) {
		id, err := account.ParseID(sid)
		t.Fail(err)
		out = append(out, id)
	}
	return out
}

// SetAdministrator puts an account on a server's list of administrators, or
// takes it off.
func (t *Tx) SetAdministrator(s Server, id account.ID, on bool) {
	r := t.account(id)
	if r == nil {
		t.Fail(refuse("", "%s is not an account of the estate", id))
		return
	}
	if on {
		t.Exec("INSERT INTO administrators(server, account) VALUES(?,?)", s.ID, r.id)
	} else {
		t.Exec("DELETE FROM administrators WHERE server=? AND account=?", s.ID, r.id)
	}
}

func (t *Tx) sharesWhere(where string, args ...any) (out []Share) {
	var ids []int64
	t.Each("SELECT id, server, name, folder, read_only, descriptor FROM shares WHERE "+where+" ORDER BY server, key", args, func(r *sql.Rows) error {
		var s Share
		var d int64
		err := r.Scan(&s.ID, &s.ServerID, &s.Name, &s.Folder, &s.ReadOnly, &d)
		out, ids = append(out, s), append(ids, d)
		return err
	})
	admitted := len(out) > 0 && t.Knows("admissions")
	for i := range out {
		if admitted {
			out[i].Admission = t.admission(out[i].ID)
		}
		out[i].Descriptor = t.Descriptor(ids[i]).Listed() // shares have no rules of another kind
		out[i].Server = t.serverByRow(out[i].ServerID).Name
		if clean, err := place.Clean(out[i].Folder); err == nil {
			out[i].Folder = clean
		}
	}
	return out
}

// Shares lists a server's shares by name.
func (t *Tx) Shares(s Server) []Share {
	if t.Change() != 0 {
		return t.sharesWhere("server=?", s.ID)
	}
	list, known := t.shares[s.ID]
	if !known {
		list = t.sharesWhere("server=?", s.ID)
		t.shares[s.ID] = list
	}
	return slices.Clone(list)
}

// ShareByRow finds a share by its number.
func (t *Tx) ShareByRow(id int64) (s Share, ok bool) {
	for _, s := range t.sharesWhere("id=?", id) {
		return s, true
	}
	return s, false
}

// Share finds a share by name.
func (t *Tx) Share(s Server, name string) (Share, error) {
	found := t.sharesWhere("server=? AND key=?", s.ID, store.Key(name))
	if err := t.Err(); err != nil {
		return Share{}, err
	}
	if len(found) == 0 {
		return Share{}, &NotFound{What: "share", Name: name, In: "server " + s.Name,
			Near: Nearest(name, t.Strings("SELECT name FROM shares WHERE server=?", s.ID))}
	}
	return found[0], nil
}

// FindShare finds the share an address //server/share means.
func (t *Tx) FindShare(a place.Address) (Server, Share, error) {
	s, err := t.Server(a.Server)
	if err != nil {
		return s, Share{}, err
	}
	sh, err := t.Share(s, a.Share)
	return s, sh, err
}

// AddShare puts a new share in.
func (t *Tx) AddShare(s Server, sh Share) int64 {
	id := t.Exec("INSERT INTO shares(server, name, key, folder, read_only, descriptor) VALUES(?,?,?,?,?,?)",
		s.ID, sh.Name, store.Key(sh.Name), sh.Folder, sh.ReadOnly, t.keep(sh.Descriptor))
	t.Made("shares", id, id)
	t.SetAdmission(id, sh.Admission)
	return id
}

// Passing lists who passes the files' rules of a server: its administrators, and
// root where root does.
func (t *Tx) Passing(s Server) []account.ID {
	return PassingBy(&s.Traits, t.Administrators(s))
}

// PassingBy is Passing where the administrators are at hand.
func PassingBy(tr *verdict.Traits, administrators []account.ID) []account.ID {
	if !tr.RootPasses {
		return administrators
	}
	return append(slices.Clip(administrators), account.UID(0))
}

// SetSwitch switches a share to read-only, or back.
func (t *Tx) SetSwitch(id int64, readOnly bool) {
	t.Exec("UPDATE shares SET read_only=? WHERE id=?", readOnly, id)
}

// SetShare gives a share other rules.
func (t *Tx) SetShare(id int64, d *rule.Descriptor) {
	t.Exec("UPDATE shares SET descriptor=? WHERE id=?", t.keep(d), id)
}

// RemoveShare takes a share out, and the last days of its entries.
func (t *Tx) RemoveShare(id int64) {
	t.Exec("DELETE FROM deadlines WHERE share=? AND item=0", id)
	t.Exec("DELETE FROM admissions WHERE share=?", id)
	t.Delete("shares", id)
}
