package policy

import (
	"errors"
	"fmt"
	"strings"
	"testing"
	"unicode/utf8"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"tarnwold/core/rule"
	"tarnwold/internal/format"
)

func read(t require.TestingT, text string) *Policy {
	p, err := Read(strings.NewReader(text), "p")
	require.NoError(t, err, text)
	return p
}

func TestAllThatCanBeWanted(t *testing.T) {
	p := read(t, "\ufeff# the season\npolicy \"the season\"\nbecause  the tour ends, \"and\" then  # soon\n"+
		"at Wardrobe, \"Box Office/Ledgers\"\n sealed clear\n owner \"Ada \"\"Q\"\" Quill\"\n  only deny volunteers read,delete below once until 2027-03-31 # not yet\n\taudit everyone@ full on success,failure\r\n"+
		"at //stagedoor/vault\nallow board list\nexpect\nat //stagedoor/vault\nboard can list .\nineś can read Wardrobe\n")
	require.Equal(t, "the season", p.Name)
	require.Equal(t, `the tour ends, "and" then`, p.Because)
	require.Len(t, p.Blocks, 2)
	b := p.Blocks[0]
	require.Equal(t, []string{"Wardrobe", "Box Office/Ledgers"}, b.Where)
	require.Equal(t, []int{4, 14}, b.WhereAt)
	require.Equal(t, "clear", b.Seal)
	require.Equal(t, `Ada "Q" Quill`, b.Owner)
	e := b.Entries[0]
	require.Equal(t, Entry{Line: 7, Only: true, Kind: rule.Deny, Who: "volunteers", What: "read,delete", Scope: rule.Below | rule.Once, Until: "2027-03-31", WhoAt: 13, WhatAt: 24, UntilAt: 53, said: e.said}, e)
	require.Equal(t, rule.Audit, b.Entries[1].Kind)
	require.NotZero(t, b.Entries[1].On)
	require.Equal(t, []string{"//stagedoor/vault"}, p.Blocks[1].Where)
	require.Equal(t, "//stagedoor/vault", p.Expect[0].Where)
	require.Equal(t, "//stagedoor/vault/Wardrobe", p.Expect[1].Where)
	require.Equal(t, "Wardrobe", read(t, "policy p\nbecause x\nat .\nowner w\nexpect\nw can read Wardrobe\n").Expect[0].Where, "relative to where it is laid")
}

func TestMistakesSayWhere(t *testing.T) {
	for text, want := range map[string]string{
		"":                                    "p: the file ends; wanted policy NAME",
		"policy\n":                            `p: line 1, column 7: the line ends; wanted the policy's name`,
		"policy at\n":                         `p: line 1, column 8: "at"; wanted the policy's name (in quotes, if it is called so)`,
		"policy a b\n":                        `p: line 1, column 10: "b"; wanted the end of the line`,
		"policy a\nbecause\n":                 `p: line 2, column 8: the line ends; wanted the reason`,
		"policy a\nbecause x\n":               `p: line 2: the file ends; wanted at PLACE`,
		"policy a\nbecause x\nat\n":           `p: line 3, column 3: the line ends; wanted a place`,
		"policy a\nbecause x\nat x\n":         `p: line 3, column 1: nothing is wanted at these places`,
		"policy a\nbecause x\nowner w\n":      `p: line 3, column 1: "owner"; wanted at PLACE before what is wanted there`,
		"policy a\nbecause x\nat x\nsealed\n": `p: line 4, column 7: the line ends; wanted keep`,
		"policy a\nbecause x\nat x\nsealed keep\nsealed keep\n":   `p: line 5, column 1: sealed is said a second time`,
		"policy a\nbecause x\nat x\nallow g read tre\n":           `p: line 4, column 14: "tre"`,
		"policy a\nbecause x\nat x\nonly g\n":                     `p: line 4, column 6: "g"; wanted allow, deny or audit`,
		"policy a\nbecause x\nat x\naudit g read\n":               `p: line 4, column 1: an audit entry, and only that, says on success`,
		"policy a\nbecause x\nat x\nallow g read until soon\n":    `p: line 4, column 20: "soon"; wanted a day`,
		"policy a\nbecause x\nat x\nallow g read\nallow g read\n": `p: line 5, column 1: the same entry is given above`,
		"policy a\nbecause x\nat x, x\nowner w\n":                 `p: line 3, column 7: "x" is on line 3 already`,
		"policy a\npolicy b\n":                                    `p: line 2, column 1: a file holds one policy`,
		"policy a\nbecause x\nat x\nowner w\nexpect now\n":        `p: line 5, column 8: "now"; wanted the end of the line`,
		"policy a\nbecause x\nat x\nowner w\nexpect\nnobody\n":    `p: line 6, column 7: the line ends; wanted can`,
	} {
		_, err := Read(strings.NewReader(text), "p")
		require.ErrorContains(t, err, want, text)
	}
	_, err := Read(strings.NewReader(strings.Repeat("# x\n", most/4+1)), "p")
	require.ErrorContains(t, err, "larger than a policy can be")
}

// TestAnyNameCanBeWritten: whatever a name is, quoted it is read as it was.
func TestAnyNameCanBeWritten(t *testing.T) {
	rapid.Check(t, func(rt *rapid.T) {
		name := rapid.StringMatching(`[^\x00-\x09\x0b-\x1f]{1,12}`).Draw(rt, "name")
		if !utf8.ValidString(name) {
			return
		}
		p := read(rt, fmt.Sprintf("policy %s\nbecause x\nat %s\nowner %[1]s\nallow %[1]s read\n", Quote(name), Quote(name)))
		require.Equal(rt, name, p.Name)
		require.Equal(rt, []string{name}, p.Blocks[0].Where)
		require.Equal(rt, name, p.Blocks[0].Owner)
		require.Equal(rt, name, p.Blocks[0].Entries[0].Who)
	})
}

// TestManyLines: a file of a hundred thousand lines is read whole.
func TestManyLines(t *testing.T) {
	var b strings.Builder
	b.WriteString("policy many\nbecause there are\n")
	for i := range 50_000 {
		fmt.Fprintf(&b, "at folder%d\n  allow g%d read\n", i, i)
	}
	require.Len(t, read(t, b.String()).Blocks, 50_000)
}

func FuzzRead(f *testing.F) {
	f.Add("policy a\nbecause x\nat x\nsealed keep\nonly deny g read,write-data tree once until 2027-03-31\nexpect\ng can read .\n")
	f.Add("policy \"a\"\"b\"\nbecause x\nat \"\\\\x\"\naudit g full on success\n")
	f.Fuzz(func(t *testing.T, text string) {
		p, err := Read(strings.NewReader(text), "f")
		if err != nil {
			var e *format.Error
			require.True(t, errors.As(err, &e), "%v", err)
			return
		}
		require.NotEmpty(t, p.Name)
		require.NotEmpty(t, p.Because)
		require.NotEmpty(t, p.Blocks)
		again, err := Read(strings.NewReader(p.Text), "f")
		require.NoError(t, err)
		require.Equal(t, p, again)
	})
}
