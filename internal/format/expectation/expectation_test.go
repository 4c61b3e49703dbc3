package expectation

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"tarnwold/internal/format/lexer"
)

func one(t *testing.T, text string) Line {
	list, err := Read(strings.NewReader(text), "f")
	require.NoError(t, err)
	require.Len(t, list, 1)
	l := list[0]
	l.NamesAt, l.WhatAt, l.WhereAt, l.ThroughAt, l.Column, l.Text = nil, 0, 0, 0, 0, ""
	return l
}

func TestEveryKindOfLine(t *testing.T) {
	const at = "at //stagedoor/productions  # the share\n"
	for text, want := range map[string]Line{
		"ines can edit Wardrobe/Fittings":               {Names: []string{"ines"}, What: "edit", Where: "//stagedoor/productions/Wardrobe/Fittings"},
		`lark cannot read "Box Office/Ledgers" # never`: {Names: []string{"lark"}, Cannot: true, What: "read", Where: "//stagedoor/productions/Box Office/Ledgers"},
		`only board,warden can read "Board Papers" and below`: {Whose: Only, Names: []string{"board", "warden"}, What: "read",
			Where: "//stagedoor/productions/Board Papers", Below: true},
		"nobody but warden can change-rules Casting and below through //stagedoor/vault": {Whose: NobodyBut, Names: []string{"warden"}, What: "change-rules",
			Where: "//stagedoor/productions/Casting", Below: true, Through: "//stagedoor/vault"},
		"nobody can read-data, write-data .":                {Whose: NobodyBut, What: "read-data,write-data", Where: "//stagedoor/productions"},
		"everyone cannot list stagedoor:/srv at the server": {Whose: Everyone, Cannot: true, What: "list", Where: "stagedoor:/srv", Local: true},
		`"only", "a \"b\" \\c" can read ./a:/b`:             {Names: []string{"only", `a "b" \c`}, What: "read", Where: "//stagedoor/productions/a:/b"},
		`QUILL\bram can read \\stagedoor\vault`:             {Names: []string{`QUILL\bram`}, What: "read", Where: `\\stagedoor\vault`},
	} {
		want.Number = 2
		require.Equal(t, want, one(t, at+text), text)
	}
	list, err := Read(strings.NewReader("\ufeff# nothing\r\n\r\nat a:/\r\nx can read .\r\nat b:/y/\nz can read q\n"), "f")
	require.NoError(t, err)
	require.Equal(t, []string{"a:/", "b:/y/q"}, []string{list[0].Where, list[1].Where})
	require.Equal(t, "x can read .", list[0].Text)
	require.Equal(t, []int{4, 6}, []int{list[0].Number, list[1].Number})
}

func TestWrongLinesSayWhereAndWhat(t *testing.T) {
	for text, want := range map[string]string{
		"ines":                      "f: line 2, column 5: the line ends; wanted can or cannot (a name with spaces is quoted)",
		"ines may edit x":           `f: line 2, column 6: "may"; wanted can or cannot (a name with spaces is quoted)`,
		"can edit x":                `f: line 2, column 1: "can"; wanted a user or group, everyone, only or nobody but (in quotes, if it is called so)`,
		"only can read x":           `f: line 2, column 6: "can"; wanted a user or group (in quotes, if it is called so)`,
		"ines, can read x":          `f: line 2, column 7: "can"; wanted a user or group, everyone, only or nobody but (in quotes, if it is called so)`,
		"only ines cannot read x":   `f: line 2, column 11: "cannot"; wanted can, for this line is about those who can`,
		"nobody cannot read x":      `f: line 2, column 8: "cannot"; wanted can, for this line is about those who can`,
		"ines can":                  "f: line 2, column 9: the line ends; wanted a level, rights or an act",
		"ines can read":             "f: line 2, column 14: the line ends; wanted a place",
		"ines can read x below":     `f: line 2, column 17: "below"; wanted and below, through //server/share, at the server, or the end of the line (a place with spaces or commas is quoted)`,
		"ines can read x through y": `f: line 2, column 25: "y"; wanted a share, as //server/share`,
		`ines can read "x`:          "f: line 2, column 15: the quote is not closed",
		`ines can read ""`:          "f: line 2, column 15: the quotes are empty",
		`ines can read "a\b"`:       `f: line 2, column 17: after \ in quotes wanted another \, a quote or n`,
		`ines can read a"b"`:        `f: line 2, column 16: a quote in the middle of a word; wanted the whole of it in quotes, with \" for a quote`,
		`ines can read "a"b`:        "f: line 2, column 18: wanted a space after the closing quote",
		"at x":                      `f: line 2, column 4: "x"; wanted a whole address, as //server/share or server:/folder`,
		"at //a/b c":                `f: line 2, column 10: "c"; wanted the end of the line (a place with spaces is quoted)`,
		"x\xff can read y":          "f: line 2, column 1: the word is not UTF-8",
		"x can read " + strings.Repeat("y", lexer.Longest): "f: line 2: the line is longer than 65536 bytes",
	} {
		_, err := Read(strings.NewReader("at //a/b\n"+text), "f")
		require.EqualError(t, err, want, "%.60q", text)
	}
	_, err := Read(strings.NewReader("ines can read x"), "f")
	require.EqualError(t, err, `f: line 1, column 15: "x"; wanted a whole address, as //server/share or server:/folder, or a line before that says: at PLACE`)
}

// TestLinesReadBack: what is written is read as it was, whatever the names.
func TestLinesReadBack(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		name := rapid.OneOf(rapid.StringOfN(rapid.RuneFrom([]rune(`ab ,"\#:/`+"\n\t\ufeff ")), 1, 8, -1), rapid.StringN(1, 5, -1),
			rapid.SampledFrom([]string{"only", "but", "nobody", "can", "and", "at", "everyone", "through", "the", "server"}))
		l := Line{Number: 1, Whose: Whose(rapid.IntRange(0, 3).Draw(t, "whose")), What: rapid.SampledFrom([]string{"edit", "read-data,write-data"}).Draw(t, "what"),
			Where: "//a/" + name.Draw(t, "where"), Below: rapid.Bool().Draw(t, "below")}
		if l.Whose != Everyone {
			l.Names = rapid.SliceOfN(name, 1, 3).Draw(t, "names")
		}
		if l.Whose == Named || l.Whose == Everyone {
			l.Cannot = rapid.Bool().Draw(t, "cannot")
		}
		switch rapid.IntRange(0, 2).Draw(t, "by") {
		case 1:
			l.Through = "//a/" + name.Draw(t, "through")
		case 2:
			l.Local = true
		}
		list, err := Read(strings.NewReader(l.Write()+"\n"), "f")
		require.NoError(t, err, l.Write())
		require.Len(t, list, 1)
		got := list[0]
		require.Equal(t, l.Write(), got.Text)
		got.NamesAt, got.WhatAt, got.WhereAt, got.ThroughAt, got.Column, got.Text = nil, 0, 0, 0, 0, ""
		require.Equal(t, l, got, l.Write())
	})
}

// TestRelativePlacesReadBack: an address written relative to another is read as
// it was.
func TestRelativePlacesReadBack(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		top := rapid.SampledFrom([]string{"//a/b", "a:/srv", "a:/"}).Draw(t, "top")
		name := rapid.OneOf(rapid.SampledFrom([]string{".", "./x", "a:/b", "c:/", "//d"}), rapid.StringOfN(rapid.RuneFrom([]rune("ab .:/")), 1, 6, -1)).Draw(t, "name")
		name = strings.TrimLeft(name, "/") // what is below a folder
		address := top
		if name != "" {
			address = strings.TrimSuffix(top, "/") + "/" + name
		}
		l := Line{Names: []string{"x"}, What: "read", Where: Relative(address, top)}
		list, err := Read(strings.NewReader("at "+top+"\n"+l.Write()), "f")
		require.NoError(t, err)
		require.Equal(t, address, list[0].Where, l.Write())
	})
}

// FuzzRead: whatever a file holds, reading it ends, and what is read is written
// and read again the same.
func FuzzRead(f *testing.F) {
	f.Add("at //a/b\nines, bram can edit \"x y\" and below through //a/c # why\n")
	f.Add("nobody but x can read-data,write-data a:/ at the server\r\n\"only\" cannot read //a/b")
	f.Fuzz(func(t *testing.T, text string) {
		list, err := Read(strings.NewReader(text), "f")
		if err != nil {
			require.Contains(t, err.Error(), "f: line ")
			return
		}
		for _, l := range list {
			again, err := Read(strings.NewReader(l.Write()), "g")
			require.NoError(t, err, l.Write())
			require.Len(t, again, 1)
			require.Equal(t, l.Write(), again[0].Write())
		}
	})
}
