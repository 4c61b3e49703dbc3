package estate

import (
	"database/sql"
	"encoding/json"
	"fmt"
	"strings"

	"tarnwold/core/account"
	"tarnwold/core/rule"
	"tarnwold/core/verdict"
)

// Server is a server with its traits.
type Server struct {
	id     int64
	Name   string
	Traits verdict.Traits
}

// Share is a share of a server.
type Share struct {
	id         int64
	server     int64
	Name       string
	Folder     string // the server's own path, beginning with /
	ReadOnly   bool
	Descriptor *rule.Descriptor
}

func scanServer(r *sql.Rows) (Server, error) {
	var s Server
	var traits string
	if err := r.Scan(&s.id, &s.Name, &traits); err != nil {
		return s, err
	}
	return s, json.Unmarshal([]byte(traits), &s.Traits)
}

// Servers lists all servers by name.
func (t *Tx) Servers() (out []Server) {
	t.each("SELECT id, name, traits FROM servers ORDER BY name", nil, func(r *sql.Rows) error {
		s, err := scanServer(r)
		out = append(out, s)
		return err
	})
	return out
}

// Server finds a server by name.
func (t *Tx) Server(name string) (Server, error) {
	var found []Server
	t.each("SELECT id, name, traits FROM servers WHERE name=?", []any{name}, func(r *sql.Rows) error {
		s, err := scanServer(r)
		found = append(found, s)
		return err
	})
	if len(found) == 0 && t.err == nil {
		return Server{}, &NotFound{What: "server", Name: name, Near: nearest(name, t.strings("SELECT name FROM servers"))}
	}
	if t.err != nil {
		return Server{}, t.Err()
	}
	return found[0], nil
}

func (t *Tx) serverByRow(id int64) (s Server) {
	t.each("SELECT id, name, traits FROM servers WHERE id=?", []any{id}, func(r *sql.Rows) (err error) {
		s, err = scanServer(r)
		return err
	})
	return s
}

// AddServer puts a new server in.
func (t *Tx) AddServer(name string, traits verdict.Traits) (Server, error) {
	if err := goodName("server", name); err != nil {
		return Server{}, err
	}
	if t.int("SELECT count(*) FROM servers WHERE name=?", name) > 0 {
		return Server{}, refuse("", "there is a server %q already", name)
	}
	js, err := json.Marshal(traits)
	if err != nil {
		return Server{}, err
	}
	id := t.exec("INSERT INTO servers(name, traits) VALUES(?,?)", name, string(js))
	if t.ranges {
		t.made("servers", id, id)
	}
	return Server{id: id, Name: name, Traits: traits}, t.Err()
}

// ServerOrNew finds a server, or makes it with the smb traits.
func (t *Tx) ServerOrNew(name string) (s Server, made bool, err error) {
	if t.int("SELECT count(*) FROM servers WHERE name=?", name) > 0 {
		s, err = t.Server(name)
		return s, false, err
	}
	traits, err := verdict.NamedTraits("smb")
	if err != nil {
		return s, false, err
	}
	s, err = t.AddServer(name, traits)
	return s, true, err
}

// Administrators lists the identifiers on a server's list of administrators.
func (t *Tx) Administrators(s Server) (out []account.ID) {
	for _, sid := range t.strings("SELECT a.sid FROM administrators d JOIN accounts a ON a.id=d.account WHERE d.server=? ORDER BY a.name", s.id) {
		id, err := account.ParseID(sid)
		t.fail(err)
		out = append(out, id)
	}
	return out
}

// AddAdministrator puts an account on a server's list of administrators.
func (t *Tx) AddAdministrator(s Server, a account.Account) error {
	r := t.account(a.ID)
	if t.int("SELECT count(*) FROM administrators WHERE server=? AND account=?", s.id, r.id) > 0 {
		return refuse("", "%s is an administrator of %s already", t.Name(a.ID), s.Name)
	}
	t.exec("INSERT INTO administrators(server, account) VALUES(?,?)", s.id, r.id)
	return t.Err()
}

const shareColumns = "id, server, name, folder, read_only, descriptor"

func (t *Tx) shares(where string, args ...any) (out []Share) {
	var ids []int64
	t.each("SELECT "+shareColumns+" FROM shares WHERE "+where+" ORDER BY name", args, func(r *sql.Rows) error {
		var s Share
		var d int64
		err := r.Scan(&s.id, &s.server, &s.Name, &s.Folder, &s.ReadOnly, &d)
		out, ids = append(out, s), append(ids, d)
		return err
	})
	for i := range out {
		out[i].Descriptor = t.Descriptor(ids[i])
	}
	return out
}

// Shares lists a server's shares by name.
func (t *Tx) Shares(s Server) []Share { return t.shares("server=?", s.id) }

// Share finds a share by name.
func (t *Tx) Share(s Server, name string) (Share, error) {
	found := t.shares("server=? AND name=?", s.id, name)
	if t.err != nil {
		return Share{}, t.Err()
	}
	if len(found) == 0 {
		return Share{}, &NotFound{What: "share", Name: name, In: "server " + s.Name,
			Near: nearest(name, t.strings("SELECT name FROM shares WHERE server=?", s.id))}
	}
	return found[0], nil
}

// AddShare puts a new share in.
func (t *Tx) AddShare(s Server, sh Share) error {
	if err := goodName("share", sh.Name); err != nil {
		return err
	}
	if !strings.HasPrefix(sh.Folder, "/") {
		return refuse("", "%q is no path on a server: it begins with /", sh.Folder)
	}
	if t.int("SELECT count(*) FROM shares WHERE server=? AND name=?", s.id, sh.Name) > 0 {
		return refuse("", "server %s has a share %q already", s.Name, sh.Name)
	}
	t.exec("INSERT INTO shares(server, name, folder, read_only, descriptor) VALUES(?,?,?,?,?)",
		s.id, sh.Name, sh.Folder, sh.ReadOnly, t.keep(sh.Descriptor))
	if place, err := t.At(s, sh.Folder); err == nil {
		t.Isolate(place.Item)
	}
	return t.Err()
}

// SetShare gives a share other rules.
func (t *Tx) SetShare(s Share, d *rule.Descriptor) {
	t.exec("UPDATE shares SET descriptor=? WHERE id=?", t.keep(d), s.id)
}

// Address writes the share's own address.
func (s Share) Address(server Server) string { return fmt.Sprintf("//%s/%s", server.Name, s.Name) }
