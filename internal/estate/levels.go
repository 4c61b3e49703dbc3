package estate

import (
	"database/sql"

	"tarnwold/core/right"
)

// Levels gives the built-in levels and the estate's own, weakest first.
func (t *Tx) Levels() right.Levels { return right.Builtin().With(t.OwnLevels()...) }

// OwnLevels gives the levels the estate has added.
func (t *Tx) OwnLevels() (own []right.Level) {
	t.each("SELECT name, folder, file, about FROM levels ORDER BY name", nil, func(r *sql.Rows) error {
		var l right.Level
		err := r.Scan(&l.Name, &l.Folder, &l.File, &l.About)
		own = append(own, l)
		return err
	})
	return own
}

// AddLevel adds a level of the estate's own.
func (t *Tx) AddLevel(l right.Level) error {
	if err := goodName("level", l.Name); err != nil {
		return err
	}
	if _, ok := t.Levels().Lookup(l.Name); ok {
		return refuse("", "there is a level %q already", l.Name)
	}
	if _, err := right.Parse(l.Name); err == nil {
		return refuse("", "%q is the name of a right", l.Name)
	}
	t.exec("INSERT INTO levels(name, folder, file, about) VALUES(?,?,?,?)", l.Name, l.Folder, l.File, l.About)
	return t.Err()
}

// RemoveLevel removes a level of the estate's own. Entries keep their rights.
func (t *Tx) RemoveLevel(name string) error {
	if right.IsBuiltin(name) {
		return refuse("", "%s is built in", name)
	}
	if t.int("SELECT count(*) FROM levels WHERE name=?", name) == 0 {
		var names []string
		for _, l := range t.OwnLevels() {
			names = append(names, l.Name)
		}
		return &NotFound{What: "level", Name: name, Near: nearest(name, names)}
	}
	t.exec("DELETE FROM levels WHERE name=?", name)
	return t.Err()
}
