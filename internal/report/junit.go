package report

import (
	"encoding/xml"
	"fmt"
	"io"

	"tarnwold/internal/ask/expect"
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

// checkCase is one check, whether it failed, and why.
type checkCase struct {
	name         string
	fault, error string
}

// junit writes expectations as JUnit's XML: a suite a file, a case a line.
func (p *Printer) junit(list []*expect.Expected) error {
	var names []string
	suites := map[string][]checkCase{}
	for _, e := range list {
		if suites[e.File] == nil {
			names = append(names, e.File)
		}
		c := checkCase{name: fmt.Sprintf("line %d: %s", e.Line, e.Text), error: e.Error}
		if !e.Holds && e.Error == "" {
			c.fault = againstSays(e)
		}
		suites[e.File] = append(suites[e.File], c)
	}
	var all []namedCases
	for _, n := range names {
		all = append(all, namedCases{n, suites[n]})
	}
	return p.junitSuites(all)
}

type namedCases struct {
	name  string
	cases []checkCase
}

// junitCases writes one suite of checks.
func (p *Printer) junitCases(name string, list []checkCase) error {
	return p.junitSuites([]namedCases{{name, list}})
}

func (p *Printer) junitSuites(list []namedCases) error {
	all := junitSuites{}
	for _, n := range list {
		s := &junitSuite{Name: Clean(n.name)}
		for _, x := range n.cases {
			c := junitCase{Class: s.Name, Name: Clean(x.name)}
			s.Tests++
			switch {
			case x.error != "":
				s.Errors++
				c.Error = &junitFault{Message: Clean(x.error), Text: Clean(x.error)}
			case x.fault != "":
				s.Fails++
				c.Failure = &junitFault{Message: Clean(x.fault), Text: Clean(x.fault)}
			}
			s.Cases = append(s.Cases, c)
		}
		all.Suites = append(all.Suites, s)
		all.Tests, all.Fails, all.Errors = all.Tests+s.Tests, all.Fails+s.Fails, all.Errors+s.Errors
	}
	text, err := xml.MarshalIndent(all, "", "  ")
	if err == nil {
		_, err = io.WriteString(p.W, xml.Header+string(text)+"\n")
	}
	return err
}
