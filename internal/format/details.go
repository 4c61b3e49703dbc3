package format

import (
	"fmt"
	"strings"
	"time"
	"unicode"
	"unicode/utf8"
)

// Details are what is known of a user beside their name: to find them, and to reach them.
type Details struct {
	FullName   string `json:"full-name,omitempty"`
	Mail       string `json:"mail,omitempty"`
	Department string `json:"department,omitempty"`
	Title      string `json:"title,omitempty"`
	Manager    string `json:"manager,omitempty"` // an account's identifier, or a name that no account has
	Ends       string `json:"ends,omitempty"`    // the account's last day, YYYY-MM-DD
}

// detail is one of them.
type detail struct {
	name, about string
	of          func(*Details) *string
}

var details = [...]detail{
	{"full-name", "the name they are called by", func(d *Details) *string { return &d.FullName }},
	{"mail", "the address they are written to", func(d *Details) *string { return &d.Mail }},
	{"department", "where they work", func(d *Details) *string { return &d.Department }},
	{"title", "what they work as", func(d *Details) *string { return &d.Title }},
	{"manager", "whom they work for", func(d *Details) *string { return &d.Manager }},
	{"ends", "the last day of the account, YYYY-MM-DD", func(d *Details) *string { return &d.Ends }},
}

// EachDetail calls fn with the name of each detail and what it is.
func EachDetail(fn func(name, about string)) {
	for _, x := range details {
		fn(x.name, x.about)
	}
}

// Of gives one of them to be read or set; nil where there is none of the name.
func (d *Details) Of(name string) *string {
	for _, x := range details {
		if x.name == name {
			return x.of(d)
		}
	}
	return nil
}

// longestDetail is how many bytes one has at most.
const longestDetail = 400

// GoodDetail tells why a detail can't be what is said.
func GoodDetail(name, value string) error {
	switch {
	case len(value) > longestDetail:
		return fmt.Errorf("the %s is longer than %d bytes", name, longestDetail)
	case !utf8.ValidString(value):
		return fmt.Errorf("the %s is not text in UTF-8", name)
	case strings.ContainsFunc(value, unicode.IsControl):
		return fmt.Errorf("the %s has control characters in it", name)
	case name == "ends" && value != "":
		if _, err := time.Parse(time.DateOnly, value); err != nil {
			return fmt.Errorf("%q is not a day of the form 2027-03-31", Clip(value))
		}
	}
	return nil
}
