package doc

import (
	"encoding/xml"
	"io"
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

// CheckCase is one check, whether it failed, and why.
type CheckCase struct {
	Name         string
	Fault, Error string
}

type NamedCases struct {
	Name  string
	Cases []CheckCase
}

// JunitCases writes one suite of checks.
func (p *Printer) JunitCases(name string, list []CheckCase) error {
	return p.JunitSuites([]NamedCases{{name, list}})
}

func (p *Printer) JunitSuites(list []NamedCases) error {
	all := junitSuites{}
	for _, n := range list {
		s := &junitSuite{Name: Clean(n.Name)}
		for _, x := range n.Cases {
			c := junitCase{Class: s.Name, Name: Clean(x.Name)}
			s.Tests++
			switch {
			case x.Error != "":
				s.Errors++
				c.Error = &junitFault{Message: Clean(x.Error), Text: Clean(x.Error)}
			case x.Fault != "":
				s.Fails++
				c.Failure = &junitFault{Message: Clean(x.Fault), Text: Clean(x.Fault)}
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
