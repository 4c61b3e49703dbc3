package estate

import (
	"database/sql"
	"slices"

	"tarnwold/core/right"
	"tarnwold/internal/store"
)

// Levels gives the built-in levels and the estate's own, weakest first.
func (t *Tx) Levels() right.Levels { return right.Builtin().With(t.OwnLevels()...) }

// OwnLevels gives the levels the estate has added.
func (t *Tx) OwnLevels() (own []right.Level) {
	if t.ownRead {
		return t.own
	}
	t.Each("SELECT name, folder, file, about FROM levels ORDER BY key", nil, func(r *sql.Rows) error {
		var l right.Level
		err := r.Scan(&l.Name, &l.Folder, &l.File, &l.About)
		own = append(own, l)
		return err
	})
	t.own, t.ownRead = slices.Clip(own), t.Err() == nil
	return own
}

// AddLevel adds a level of the estate's own. It changes nobody's access.
func (t *Tx) AddLevel(l right.Level) error {
	if err := GoodName("level", l.Name); err != nil {
		return err
	}
	if _, ok := t.Levels().Lookup(l.Name); ok {
		return refuse("", "there is a level %q already", l.Name)
	}
	if _, err := right.Parse(l.Name); err == nil {
		return refuse("", "%q is the name of a right", l.Name)
	}
	t.ownRead = false
	t.Exec("INSERT INTO levels(name, key, folder, file, about) VALUES(?,?,?,?,?)", l.Name, store.Key(l.Name), l.Folder, l.File, l.About)
	return t.Err()
}

// RemoveLevel removes a level of the estate's own. Entries keep their rights.
func (t *Tx) RemoveLevel(name string) error {
	if right.IsBuiltin(name) {
		return refuse("", "%s is built in", name)
	}
	if t.Int("SELECT count(*) FROM levels WHERE key=?", store.Key(name)) == 0 {
		var names []string
		for _, l := range t.OwnLevels() {
			names = append(names, l.Name)
		}
		return &NotFound{What: "level", Name: name, Near: Nearest(name, names)}
	}
	t.ownRead = false
	t.Exec("DELETE FROM levels WHERE key=?", store.Key(name))
	return t.Err()
}
