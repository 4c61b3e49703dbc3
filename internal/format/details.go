package format

import (
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"slices"
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
	// Further is what else whoever keeps the list says of them.
	Further Further `json:"further,omitempty"`
}

// Further is values by names that somebody else chose, kept as they are: a JSON object, the
// names in order, so that two that say the same are equal. Empty: nothing.
type Further string

func (f Further) MarshalJSON() ([]byte, error) {
	if f == "" {
		return []byte("{}"), nil
	}
	return []byte(f), nil
}

func (f *Further) UnmarshalJSON(b []byte) error {
	var values map[string]string
	if err := json.Unmarshal(b, &values); err != nil {
		return err
	}
	return f.take(values)
}

func (f *Further) take(values map[string]string) error {
	*f = ""
	if len(values) == 0 {
		return nil
	}
	b, err := json.Marshal(values)
	*f = Further(b)
	return err
}

// values reads it; one written down badly says nothing.
func (f Further) values() map[string]string {
	values := map[string]string{}
	if f != "" {
		_ = json.Unmarshal([]byte(f), &values)
	}
	return values
}

// Names lists what it says something of, in order.
func (f Further) Names() []string { return slices.Sorted(maps.Keys(f.values())) }

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

// EachDetail calls fn with the name of each detail that is known everywhere, and what it is.
func EachDetail(fn func(name, about string)) {
	for _, x := range details {
		fn(x.name, x.about)
	}
}

// Of gives one of those known everywhere to be read or set; nil where there is none of the name.
func (d *Details) Of(name string) *string {
	for _, x := range details {
		if x.name == name {
			return x.of(d)
		}
	}
	return nil
}

// Get gives what is known by a name; "" is nothing.
func (d *Details) Get(name string) string {
	if is := d.Of(name); is != nil {
		return *is
	}
	return d.Further.values()[name]
}

// Set says it; "" takes it away.
func (d *Details) Set(name, value string) {
	if is := d.Of(name); is != nil {
		*is = value
		return
	}
	values := d.Further.values()
	delete(values, name)
	if value != "" {
		values[name] = value
	}
	_ = d.Further.take(values) // text can be written
}

// DetailNames lists those that can differ between some: known ones first.
func DetailNames(of ...Details) (names []string) {
	EachDetail(func(name, _ string) { names = append(names, name) })
	further := map[string]bool{}
	for _, d := range of {
		for _, name := range d.Further.Names() {
			further[name] = true
		}
	}
	return append(names, slices.Sorted(maps.Keys(further))...)
}

// GoodDetailName tells why a detail beside those known can't be called so.
func GoodDetailName(name string) error {
	switch {
	case strings.TrimSpace(name) != name || name == "":
		return errors.New("a detail has no name")
	case len(name) > 60:
		return fmt.Errorf("the name %q of a detail is longer than 60 bytes", Clip(name))
	case !utf8.ValidString(name) || strings.ContainsFunc(name, func(r rune) bool { return !unicode.IsPrint(r) || r == '=' }):
		return fmt.Errorf("the name %q of a detail has characters in it that can't be shown, or =", Clip(name))
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
