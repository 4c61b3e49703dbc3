// Package shape says how a directory's entries stand for users, groups and
// memberships, and makes accounts of them. A shape is data: two are built in, a
// third can be described in a file.
package shape

import (
	"encoding/json"
	"fmt"
	"io"
	"slices"
	"strings"

	"tarnwold/core/account"
	"tarnwold/internal/format"
)

// Shape says which attributes hold what. Names are in any case.
type Shape struct {
	Name string `json:"name"`
	// Object classes, of which an entry has to have one; Leave are those left out.
	User  []string `json:"user-classes"`
	Group []string `json:"group-classes"`
	Leave []string `json:"left-out-classes,omitempty"`
	// The first of these attributes that an entry has is its name.
	UserName  []string `json:"user-name"`
	GroupName []string `json:"group-name"`
	SID       string   `json:"sid,omitempty"`         // [MS-DTYP] §2.4.2.2, or in text
	History   string   `json:"former-sids,omitempty"` // identifiers it had elsewhere, as SID
	UID       string   `json:"uid,omitempty"`         // a number
	GID       string   `json:"gid,omitempty"`         // of a group; of a user: of their first group
	FirstRID  string   `json:"first-rid,omitempty"`   // the first group's number in the user's domain
	Members   []string `json:"members,omitempty"`     // of a group, by distinguished name
	MemberIDs []string `json:"members-by-name,omitempty"`
	Type      string   `json:"group-type,omitempty"`      // [MS-ADTS] §2.2.12: bits, of which the highest tells of a group for security
	Control   string   `json:"account-control,omitempty"` // [MS-ADTS] §2.2.16: bits
	State     string   `json:"account-state,omitempty"`   // [MS-ADTS] §3.1.1.4.5.17: bits as they are at this moment
	PassSet   string   `json:"password-set,omitempty"`    // 0: the password has to be changed first
	Hours     string   `json:"hours,omitempty"`           // a bit for each hour of the week, [MS-SAMR] §2.2.6.5
	Ends      string   `json:"ends,omitempty"`            // in 100 ns since 1601
	EndsDay   string   `json:"ends-day,omitempty"`        // in days since 1970
	Changed   string   `json:"changed,omitempty"`         // a number, or a time, that grows with every change
	Token     string   `json:"token,omitempty"`           // of a user: every group of their token, as the directory has it
	Claims    []Claim  `json:"claims,omitempty"`          // of users, that conditions of entries ask for
	Filter    string   `json:"filter,omitempty"`          // what is asked for; empty: the classes
	// Details says which attribute holds each of format.Details but the last day, which Ends
	// and EndsDay tell; nil: what the built-in shape of the name says.
	Details map[string]string `json:"details,omitempty"`
}

// Claim says which attribute of a user holds the values of a claim ([MS-DTYP] §2.4.10).
type Claim struct {
	Name      string            `json:"claim"`
	Kind      account.ClaimKind `json:"kind"`
	Attribute string            `json:"attribute"`
}

// ParseClaim reads NAME=ATTRIBUTE, or NAME:KIND=ATTRIBUTE where its values aren't text.
func ParseClaim(text string) (c Claim, err error) {
	c.Kind = account.TextClaim
	name, attr, ok := strings.Cut(text, "=")
	if c.Name, c.Attribute = name, attr; !ok || name == "" || attr == "" {
		return c, fmt.Errorf("%q isn't NAME=ATTRIBUTE, the claim and the attribute that holds it", format.Clip(text))
	}
	if name, kind, ok := strings.Cut(name, ":"); ok {
		c.Name, c.Kind = name, account.ClaimKind(kind)
	}
	return c, c.good()
}

func (c *Claim) good() error {
	if kinds := account.ClaimKinds(); !slices.Contains(kinds, c.Kind) {
		return fmt.Errorf("claim %s: %q is not a kind of value: %v", format.Clip(c.Name), format.Clip(string(c.Kind)), kinds)
	}
	if c.Name == "" || c.Attribute == "" || strings.ContainsFunc(c.Name+c.Attribute, func(r rune) bool { return r <= ' ' || r == '"' }) {
		return fmt.Errorf("claim %q of %q: neither may contain spaces", format.Clip(c.Name), format.Clip(c.Attribute))
	}
	return nil
}

var builtin = map[string]Shape{
	"domain": {
		Name: "domain", User: []string{"user"}, Group: []string{"group"}, Leave: []string{"computer"},
		UserName: []string{"sAMAccountName"}, GroupName: []string{"sAMAccountName"}, SID: "objectSid", History: "sIDHistory", FirstRID: "primaryGroupID",
		Members: []string{"member"}, Type: "groupType", Control: "userAccountControl", State: "msDS-User-Account-Control-Computed", PassSet: "pwdLastSet", Hours: "logonHours", Ends: "accountExpires", Changed: "uSNChanged", Token: "tokenGroups",
		Details: map[string]string{"full-name": "displayName", "mail": "mail", "department": "department", "title": "title", "manager": "manager"},
	},
	"rfc2307": {
		Name: "rfc2307", User: []string{"posixAccount"}, Group: []string{"posixGroup", "groupOfNames", "groupOfUniqueNames"},
		UserName: []string{"uid"}, GroupName: []string{"cn"}, UID: "uidNumber", GID: "gidNumber",
		Members: []string{"member", "uniqueMember"}, MemberIDs: []string{"memberUid"}, EndsDay: "shadowExpire", Changed: "modifyTimestamp",
		Details: map[string]string{"full-name": "cn", "mail": "mail", "department": "departmentNumber", "title": "title", "manager": "manager"},
	},
}

// Names lists the built-in shapes.
func Names() []string { return []string{"domain", "rfc2307"} }

// Named gives a built-in shape.
func Named(name string) (Shape, bool) {
	s, ok := builtin[name]
	return s, ok
}

const longest = 1 << 16

// Read reads a shape from JSON.
func Read(r io.Reader, file string) (s Shape, err error) {
	d := json.NewDecoder(io.LimitReader(r, longest))
	d.DisallowUnknownFields()
	if err := d.Decode(&s); err != nil {
		return s, fmt.Errorf("%s: %w", file, err)
	}
	switch {
	case s.Name == "" || builtin[s.Name].Name != "":
		return s, fmt.Errorf("%s: a shape has a name of its own", file)
	case len(s.User)+len(s.Group) == 0:
		return s, fmt.Errorf("%s: neither user-classes nor group-classes", file)
	case len(s.User) > 0 && len(s.UserName) == 0 || len(s.Group) > 0 && len(s.GroupName) == 0:
		return s, fmt.Errorf("%s: user-name and group-name say which attribute names them", file)
	case s.SID == "" && s.UID == "" && s.GID == "":
		return s, fmt.Errorf("%s: sid, uid or gid says which attribute is an account's own for ever", file)
	}
	for i := range s.Claims {
		if err := s.Claims[i].good(); err != nil {
			return s, fmt.Errorf("%s: %w", file, err)
		}
	}
	for name := range s.Details {
		if (&format.Details{}).Of(name) == nil || name == "ends" {
			return s, fmt.Errorf("%s: details: %q is none", file, format.Clip(name))
		}
	}
	return s, nil
}

// details gives which attributes hold which details; a built-in shape that was written
// down by a tarnwold that knew of none has those it has today.
func (s *Shape) details() map[string]string {
	if s.Details == nil {
		return builtin[s.Name].Details
	}
	return s.Details
}

// Attributes lists what is read of an entry.
func (s *Shape) Attributes() []string {
	out := []string{"objectClass"}
	var claims []string
	for _, attr := range s.details() {
		claims = append(claims, attr)
	}
	slices.Sort(claims)
	for _, c := range s.Claims {
		claims = append(claims, c.Attribute)
	}
	for _, l := range [][]string{claims, s.UserName, s.GroupName, {s.SID, s.History, s.UID, s.GID, s.FirstRID}, s.Members, s.MemberIDs, {s.Type, s.Control, s.State, s.PassSet, s.Hours, s.Ends, s.EndsDay, s.Changed}} {
		for _, a := range l {
			if a != "" && !slices.ContainsFunc(out, func(o string) bool { return strings.EqualFold(o, a) }) {
				out = append(out, a)
			}
		}
	}
	return out
}

// Search gives the filter (RFC 4515) for what is read.
func (s *Shape) Search() string {
	if s.Filter != "" {
		return s.Filter
	}
	var b strings.Builder
	b.WriteString("(|")
	for _, c := range append(slices.Clone(s.User), s.Group...) {
		b.WriteString("(objectClass=" + c + ")")
	}
	b.WriteString(")")
	return b.String()
}

// Lists are the attributes that a group lists its members in.
func (s *Shape) Lists() []string { return append(slices.Clone(s.Members), s.MemberIDs...) }

// ByName tells whether an attribute lists members by what they are called, and not by
// the names of their entries.
func (s *Shape) ByName(attr string) bool {
	return slices.ContainsFunc(s.MemberIDs, func(o string) bool { return strings.EqualFold(o, attr) })
}
