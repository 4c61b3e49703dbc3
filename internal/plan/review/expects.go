package review

import (
	"tarnwold/internal/ask/expect"
	"tarnwold/internal/format/expectation"
)

// Expects makes what is asked of a line.
func Expects(l *expectation.Line, file string) *expect.Expectation {
	return &expect.Expectation{File: file, Line: l.Number, Text: l.Text, Names: l.Names, Everyone: l.Whose == expectation.Everyone,
		Named: l.Whose == expectation.Named || l.Whose == expectation.Only, Others: l.Whose == expectation.Only || l.Whose == expectation.NobodyBut,
		Cannot: l.Cannot, What: l.What, Where: l.Where, Below: l.Below, Through: l.Through, Local: l.Local}
}
