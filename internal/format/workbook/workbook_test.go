package workbook

import (
	"archive/zip"
	"bytes"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
	"github.com/xuri/excelize/v2"
)

// packed is a workbook of one sheet, written by hand.
func packed(t testing.TB, sheet string) []byte {
	var b bytes.Buffer
	z := zip.NewWriter(&b)
	for _, f := range [][2]string{
		{"[Content_Types].xml", `<Types xmlns="http://schemas.openxmlformats.org/package/2006/content-types"><Default Extension="rels" ContentType="application/vnd.openxmlformats-package.relationships+xml"/><Default Extension="xml" ContentType="application/xml"/><Override PartName="/xl/workbook.xml" ContentType="application/vnd.openxmlformats-officedocument.spreadsheetml.sheet.main+xml"/></Types>`},
		{"_rels/.rels", `<Relationships xmlns="http://schemas.openxmlformats.org/package/2006/relationships"><Relationship Id="rId1" Type="http://schemas.openxmlformats.org/officeDocument/2006/relationships/officeDocument" Target="xl/workbook.xml"/></Relationships>`},
		{"xl/workbook.xml", `<workbook xmlns="http://schemas.openxmlformats.org/spreadsheetml/2006/main" xmlns:r="http://schemas.openxmlformats.org/officeDocument/2006/relationships"><sheets><sheet name="Answer" sheetId="1" r:id="rId1"/></sheets></workbook>`},
		{"xl/_rels/workbook.xml.rels", `<Relationships xmlns="http://schemas.openxmlformats.org/package/2006/relationships"><Relationship Id="rId1" Type="http://schemas.openxmlformats.org/officeDocument/2006/relationships/worksheet" Target="worksheets/sheet1.xml"/></Relationships>`},
		{"xl/worksheets/sheet1.xml", sheet},
	} {
		w, err := z.Create(f[0])
		require.NoError(t, err)
		_, err = w.Write([]byte(f[1]))
		require.NoError(t, err)
	}
	require.NoError(t, z.Close())
	return b.Bytes()
}

func rowsOf(rows string) string {
	return `<worksheet xmlns="http://schemas.openxmlformats.org/spreadsheetml/2006/main"><sheetData>` + rows + `</sheetData></worksheet>`
}

func cell(at, text string) string {
	return `<c r="` + at + `" t="inlineStr"><is><t>` + text + `</t></is></c>`
}

// TestWorkbooksThatMeanHarm: what isn't whole, or is too much, is refused, and never taken in
// part.
func TestWorkbooksThatMeanHarm(t *testing.T) {
	good := `<row r="1">` + cell("A1", "who") + `</row>`
	for _, c := range []struct{ name, sheet, says string }{
		{"good", rowsOf(good + `<row r="3">` + cell("B3", "x") + `</row>`), ""},
		{"a letter that XML has not", rowsOf(good + `<row r="2">` + cell("A2", "&#27;") + `</row>`), "illegal character"},
		{"broken off", rowsOf(good)[:150], "unexpected EOF"},
		{"a cell nowhere", rowsOf(good + `<row r="2">` + strings.Replace(cell("A2", "x"), "A2", "ZZZZZZ99999999999999", 1) + `</row>`), ""},
		{"a row before the first", rowsOf(good + `<row r="-5">` + strings.Replace(cell("A2", "x"), "A2", "A-5", 1) + `</row>`), "cell"},
		{"too wide and too long", rowsOf(good + strings.Repeat(`<row>`+`<c r="XFD2"><v>1</v></c></row>`, 300)), "more than 4000000 cells"},
		{"a cell of a megabyte", rowsOf(good + `<row r="2">` + cell("A2", strings.Repeat("x", 1<<20+1<<17)) + `</row>`), "more than a cell can"},
		{"a cell of more than a cell has", rowsOf(good + `<row r="2">` + cell("A2", strings.Repeat("x", 4*32_767+1)) + `</row>`), "more than a cell can"},
	} {
		t.Run(c.name, func(t *testing.T) {
			sheets, err := Read(bytes.NewReader(packed(t, c.sheet)), "x.xlsx")
			if c.says == "" && err == nil {
				require.Equal(t, "who", sheets[0].Rows[0][0])
				return
			}
			require.ErrorContains(t, err, "x.xlsx: ")
			require.ErrorContains(t, err, c.says)
		})
	}
	sheets, err := Read(bytes.NewReader(packed(t, rowsOf(good+`<row r="3">`+cell("B3", "x")+`</row>`))), "x.xlsx")
	require.NoError(t, err)
	require.Equal(t, [][]string{{"who"}, nil, {"", "x"}}, sheets[0].Rows)
	for _, file := range [][]byte{nil, []byte("PK\x03\x04"), []byte("not one")} {
		_, err := Read(bytes.NewReader(file), "x.xlsx")
		require.ErrorContains(t, err, "it is not a workbook that can be read")
	}
}

// TestDays: what a program of sheets makes of a day is one again.
func TestDays(t *testing.T) {
	for text, want := range map[string]string{"2027-03-31": "2027-03-31", "46477": "2027-03-31", "46477.75": "2027-03-31", "0": "0", "-3": "-3", "1e300": "1e300", "NaN": "NaN", "soon": "soon", "": ""} {
		require.Equal(t, want, Day(text), text)
	}
}

// FuzzRead: no workbook ends the program, and what is read has an end.
func FuzzRead(f *testing.F) {
	f.Add(packed(f, rowsOf(`<row r="1">`+cell("A1", "who")+`</row>`)))
	x := excelize.NewFile()
	var b bytes.Buffer
	require.NoError(f, x.Write(&b))
	f.Add(b.Bytes())
	f.Fuzz(func(t *testing.T, data []byte) {
		sheets, err := Read(bytes.NewReader(data), "x.xlsx")
		if err != nil {
			require.Nil(t, sheets)
			return
		}
		_, _ = Differences(sheets, "x.xlsx")
		_, _ = Reviewed(sheets, "x.xlsx")
	})
}
