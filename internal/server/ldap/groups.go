package ldap

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"tarnwold/internal/format"
	"tarnwold/internal/format/ldif"
	"tarnwold/internal/format/shape"
	"tarnwold/internal/server"
)

// Groups is a directory that is signed on to, in whose groups members come and go. How a
// group lists them is its shape's to say.
type Groups struct {
	*Client
	Shape shape.Shape
}

// HasMember tells whether a group lists a member now.
func (g *Groups) HasMember(ctx context.Context, m server.Listed) (bool, error) {
	_, attr, _, err := g.listed(ctx, m)
	return attr != "", err
}

// SetMember makes a membership come or go; where somebody else has made it so already
// nothing is done (server.ErrChanged). A directory changes one value of a list without
// looking at the others (RFC 4511 §4.6), so that nobody else's work is lost with it.
func (g *Groups) SetMember(ctx context.Context, m server.Listed, in bool) error {
	group, attr, value, err := g.listed(ctx, m)
	switch {
	case err != nil:
		return err
	case (attr != "") == in:
		return server.ErrChanged
	case !in:
		return g.Members(ctx, m.Group, attr, nil, []string{value})
	}
	if attr, value, err = g.lists(group, m); err != nil {
		return err
	}
	return g.Members(ctx, m.Group, attr, []string{value}, nil)
}

// Lists tells by which attribute a group lists its members, and as what value it would
// list this one.
func (g *Groups) Lists(ctx context.Context, m server.Listed) (attr, value string, err error) {
	group, err := g.read(ctx, m.Group)
	if err != nil {
		return "", "", err
	}
	return g.lists(group, m)
}

func (g *Groups) read(ctx context.Context, group string) (*shape.Entry, error) {
	return g.One(ctx, group, append(g.Shape.Lists(), "objectClass")...)
}

// listed reads a group, and finds where it lists a member; attr is empty where it doesn't.
func (g *Groups) listed(ctx context.Context, m server.Listed) (group *shape.Entry, attr, value string, err error) {
	if group, err = g.read(ctx, m.Group); err != nil {
		return nil, "", "", err
	}
	for _, attr := range g.Shape.Lists() {
		for _, v := range group.Attrs.Of(attr) {
			if g.is(attr, v, m) {
				return group, attr, v, nil
			}
		}
	}
	return group, "", "", nil
}

// is tells whether a value is the member that is meant, whatever case and spaces it was
// written with.
func (g *Groups) is(attr, value string, m server.Listed) bool {
	if g.Shape.ByName(attr) {
		return strings.EqualFold(value, m.Name)
	}
	x, err1 := ldif.Key(value)
	y, err2 := ldif.Key(m.Member)
	return err1 == nil && err2 == nil && x == y
}

// lists is Lists of a group that was read: by the attribute it has members in, else by
// that of its class.
func (g *Groups) lists(group *shape.Entry, m server.Listed) (attr, value string, err error) {
	lists := g.Shape.Lists()
	at := slices.IndexFunc(lists, func(a string) bool { return len(group.Attrs.Of(a)) > 0 })
	of := slices.IndexFunc(classLists, func(x [2]string) bool {
		return slices.ContainsFunc(group.Attrs.Of("objectclass"), func(c string) bool { return strings.EqualFold(c, x[0]) })
	})
	switch {
	case at >= 0:
		attr = lists[at]
	case of >= 0:
		attr = classLists[of][1]
	case len(g.Shape.Members) > 0:
		attr = g.Shape.Members[0]
	default:
		return "", "", fmt.Errorf("nothing says how %s lists its members", format.Clip(m.Group))
	}
	if g.Shape.ByName(attr) {
		return attr, m.Name, nil
	}
	return attr, m.Member, nil
}

// classLists is by which attribute groups of each class list their members (RFC 4519
// §3.5, §3.6, RFC 2307 §3).
var classLists = [][2]string{{"groupOfUniqueNames", "uniqueMember"}, {"groupOfNames", "member"}, {"group", "member"}, {"posixGroup", "memberUid"}}
