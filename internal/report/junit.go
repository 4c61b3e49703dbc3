package report

import (
	"encoding/xml"
	"fmt"
	"io"

	"tarnwold/internal/ask"
)

type junitSuites struct {
	XMLName xml.Name      `xml:"testsuites"`
	Tests   int           `xml:"tests,attr"`
	Fails   int           `xml:"failures,attr"`
	Errors  int           `xml:"errors,attr"`
	Suites  []*junitSuite `xml:"testsuite"`
}

type junitSuite struct {
	Name   string      `xml:"name,attr"`
	Tests  int         `xml:"tests,attr"`
	Fails  int         `xml:"failures,attr"`
	Errors int         `xml:"errors,attr"`
	Cases  []junitCase `xml:"testcase"`
}

type junitCase struct {
	Class   string      `xml:"classname,attr"`
	Name    string      `xml:"name,attr"`
	Failure *junitFault `xml:"failure"`
	Error   *junitFault `xml:"error"`
}

type junitFault struct {
	Message string `xml:"message,attr"`
	Text    string `xml:",chardata"`
}

// junit writes checks as JUnit's XML: a suite a file, a case a line.
func (p *Printer) junit(list []*ask.Expected) error {
	all := junitSuites{}
	suites := map[string]*junitSuite{}
	for _, e := range list {
		s := suites[e.File]
		if s == nil {
			s = &junitSuite{Name: Clean(e.File)}
			suites[e.File] = s
			all.Suites = append(all.Suites, s)
		}
		c := junitCase{Class: s.Name, Name: Clean(fmt.Sprintf("line %d: %s", e.Line, e.Text))}
		s.Tests++
		switch {
		case e.Error != "":
			s.Errors++
			c.Error = &junitFault{Message: Clean(e.Error), Text: Clean(e.Error)}
		case !e.Holds:
			s.Fails++
			why := Clean(againstSays(e))
			c.Failure = &junitFault{Message: why, Text: why}
		}
		s.Cases = append(s.Cases, c)
	}
	for _, s := range all.Suites {
		all.Tests, all.Fails, all.Errors = all.Tests+s.Tests, all.Fails+s.Fails, all.Errors+s.Errors
	}
	text, err := xml.MarshalIndent(all, "", "  ")
	if err == nil {
		_, err = io.WriteString(p.W, xml.Header+string(text)+"\n")
	}
	return err
}
