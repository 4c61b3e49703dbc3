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
