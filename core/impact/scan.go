package impact

import (
	"tarnwold/core/right"
	"tarnwold/core/rule"
	"tarnwold/core/verdict"
)

// atom is rights that go together in everything at hand, and who is granted them.
type atom struct {
	rights right.Set
	users  []uint64 // beside the words looked at
}

// shareAtoms gives whom a share lets through, for every user.
func (w *worker) shareAtoms(share *verdict.Share, side int) []atom {
	if share == nil {
		return nil
	}
	cuts := []right.Set{right.DeleteChild}
	if share.ReadOnly {
		cuts = append(cuts, w.r.Traits.ReadOnlyTakes)
	}
	if share.Rules != nil {
		for i := range share.Rules.Rules.Entries {
			cuts = append(cuts, share.Rules.Rules.Entries[i].Rights.Map())
		}
	}
	words := make([]int, len(w.r.People.all))
	for k := range words {
		words[k] = k
	}
	var sc scratch
	atoms := cut(cuts, len(words), &sc.before)
	if share.Rules == nil {
		for i := range atoms {
			copy(atoms[i].users, w.r.People.all)
		}
	} else {
		w.scan(atoms, share.Rules, side, words, false, &sc)
	}
	if share.ReadOnly {
		for i := range atoms {
			if atoms[i].rights&w.r.Traits.ReadOnlyTakes != 0 {
				clear(atoms[i].users)
			}
		}
	}
	return atoms
}

// rights gives who is granted what by a descriptor and what lets it through.
func (w *worker) rights(d *rule.Descriptor, side int, child, gate int32, words []int, sc *scratch, store *[]uint64) []atom {
	through := w.through[side]
	cuts := make([]right.Set, 0, 64)
	cuts = append(cuts, right.ReadACL|right.WriteACL, right.Delete)
	if w.r.Traits.NamingShowsAttributes {
		cuts = append(cuts, right.ReadAttributes)
	}
	for i := range d.Rules.Entries {
		cuts = append(cuts, d.Rules.Entries[i].Rights.Map())
	}
	for i := range through {
		cuts = append(cuts, through[i].rights)
	}
	atoms := cut(cuts, len(words), store)
	w.scan(atoms, d, side, words, true, sc)
	for i := range atoms {
		a := &atoms[i]
		if w.r.Traits.NamingShowsAttributes && a.rights == right.ReadAttributes {
			w.fill(a.users, words, w.r.People.all)
		}
		if a.rights == right.Delete && child >= 0 {
			may := w.sets[child]
			for j, k := range words {
				got := may.word(k)
				for t := range through {
					if through[t].rights&right.DeleteChild != 0 {
						got &= through[t].users[k]
					}
				}
				a.users[j] |= got
			}
		}
		if gate >= 0 {
			for j, k := range words {
				a.users[j] &= w.sets[gate].word(k)
			}
		}
		if admins := w.admins[side]; admins != nil {
			for j, k := range words {
				a.users[j] |= admins[k]
			}
		}
		for t := range through {
			if through[t].rights&a.rights == 0 {
				continue
			}
			for j, k := range words {
				a.users[j] &= through[t].users[k]
			}
		}
	}
	return atoms
}

// cut parts all rights so that each mask has an atom whole or not at all.
func cut(masks []right.Set, words int, store *[]uint64) []atom {
	var room14 [right.Count]right.Set
	parts := append(room14[:0], right.Access)
	for _, m := range masks {
		for i, n := 0, len(parts); i < n; i++ {
			if in := parts[i] & m; in != 0 && in != parts[i] {
				parts = append(parts, parts[i]&^m)
				parts[i] = in
			}
		}
	}
	users := room(store, len(parts)*words)
	atoms := make([]atom, len(parts))
	for i, p := range parts {
		atoms[i] = atom{p, users[i*words : (i+1)*words : (i+1)*words]}
	}
	return atoms
}

func (w *worker) fill(users []uint64, words []int, from Bits) {
	if len(users) == len(from) { // every word is looked at
		for j, word := range from {
			users[j] |= word
		}
		return
	}
	for j, k := range words {
		users[j] |= from.word(k)
	}
}

// scan decides a list for everyone: the owner's built-in rights first where
// they count, then the first entry that matches ([MS-DTYP] §2.5.3.2).
func (w *worker) scan(atoms []atom, d *rule.Descriptor, side int, words []int, owned bool, sc *scratch) {
	if d.Rules.Absent {
		for i := range atoms {
			w.fill(atoms[i].users, words, w.r.People.all)
		}
		return
	}
	n := len(words)
	open := room(&sc.open, len(atoms)*n) // undecided, atom by atom
	var builtin right.Set
	if owned {
		builtin = rule.OwnersOwn(d)
	}
	for i := range atoms {
		undecided := open[i*n : (i+1)*n]
		w.fill(undecided, words, w.r.People.all)
		if own := w.owners(d, side); own != nil && atoms[i].rights&builtin != 0 {
			for j, k := range words {
				atoms[i].users[j] |= own[k]
				undecided[j] &^= own[k]
			}
		}
	}
	for x := range d.Rules.Entries {
		e := &d.Rules.Entries[x]
		if !e.Counts() {
			continue
		}
		h := w.holders(e, d, side)
		if h == nil {
			continue
		}
		holds := []uint64(h)
		if n != len(h) {
			holds = room(&sc.holds, n)
			for j, k := range words {
				holds[j] = h[k]
			}
		}
		m, refuses := e.Rights.Map(), e.Kind.Refuses()
		for i := range atoms {
			if atoms[i].rights&m == 0 {
				continue
			}
			undecided, users := open[i*n : (i+1)*n][:len(holds)], atoms[i].users[:len(holds)]
			if refuses {
				for j, held := range holds {
					undecided[j] &^= held
				}
				continue
			}
			for j, held := range holds {
				users[j] |= held & undecided[j]
				undecided[j] &^= held
			}
		}
	}
}
