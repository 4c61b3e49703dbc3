package store

// Rebuild makes anew what follows from rows that are whole: the database's own indexes, the
// keys and folds that names are found by, how many items each strand has, and what a server
// told of items that are no longer there. It belongs in a change of none of the journaled
// rows: what the journal has of them stays as it is.
func (t *Tx) Rebuild() error {
	t.Exec("REINDEX")
	for _, table := range []string{"accounts", "servers", "shares", "levels"} {
		t.Exec("UPDATE " + table + " SET key=tarnwold_key(name) WHERE key<>tarnwold_key(name)")
	}
	t.Exec("UPDATE items SET fold=tarnwold_fold(name) WHERE fold<>tarnwold_fold(name)")
	t.Exec("DELETE FROM weights; INSERT INTO weights(strand, items) SELECT strand, count(*) FROM items GROUP BY strand")
	if t.Knows("facts") {
		t.Exec("DELETE FROM facts WHERE item NOT IN (SELECT id FROM items)")
	}
	return t.Err()
}
