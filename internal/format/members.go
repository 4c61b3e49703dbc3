package format

import (
	"iter"
	"strings"
)

// MemberRow is one membership of a file, by name.
type MemberRow struct {
	Group, Member string
	Until         string // the last day, YYYY-MM-DD; empty: no end
	Line          int
}

// Memberships are those of a file, in order. There may be millions of them, of few names:
// each name is kept once.
type Memberships struct {
	words []string
	at    map[string]int32
	rows  []memberRow
}

// memberRow has words by their places.
type memberRow struct{ group, member, until, line int32 }

// MembershipsOf keeps some.
func MembershipsOf(rows ...MemberRow) (m Memberships) {
	for _, r := range rows {
		m.Add(r)
	}
	return m
}

// Add puts one behind the others; what its words are parts of needn't stay.
func (m *Memberships) Add(r MemberRow) {
	m.rows = append(m.rows, memberRow{m.word(r.Group), m.word(r.Member), m.word(r.Until), int32(r.Line)})
}

func (m *Memberships) word(text string) int32 {
	at, ok := m.at[text]
	if !ok {
		if m.at == nil {
			m.at = map[string]int32{}
		}
		text = strings.Clone(text)
		at = int32(len(m.words))
		m.words, m.at[text] = append(m.words, text), at
	}
	return at
}

// Len counts them.
func (m *Memberships) Len() int { return len(m.rows) }

// Names counts what stands in them, each once.
func (m *Memberships) Names() int { return len(m.words) }

// Named is the places of a membership's group and member among the names.
type Named struct{ Group, Member int32 }

// All gives each, and where its names are.
func (m *Memberships) All() iter.Seq2[Named, MemberRow] {
	return func(yield func(Named, MemberRow) bool) {
		for _, r := range m.rows {
			if !yield(Named{r.group, r.member}, MemberRow{m.words[r.group], m.words[r.member], m.words[r.until], int(r.line)}) {
				return
			}
		}
	}
}
