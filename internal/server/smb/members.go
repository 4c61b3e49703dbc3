package smb

import (
	"context"
	"errors"
	"fmt"
	"slices"

	"github.com/oiweiwei/go-msrpc/dcerpc"
	"github.com/oiweiwei/go-msrpc/msrpc/dtyp"
	"github.com/oiweiwei/go-msrpc/msrpc/erref/ntstatus"
	"github.com/oiweiwei/go-msrpc/msrpc/samr/samr/v1"

	"tarnwold/core/account"
	"tarnwold/internal/server"
)

// The statuses of [MS-SAMR] §3.1.5.8 and §3.1.5.9 that say more than no.
const (
	noSuchGroup      = 0xc0000066
	memberInGroup    = 0xc0000067
	memberNotInGroup = 0xc0000068
	noSuchAlias      = 0xc0000151
	memberNotInAlias = 0xc0000152
	memberInAlias    = 0xc0000153
	noSuchMember     = 0xc000017a
	invalidMember    = 0xc000017b
	accessDenied     = 0xc0000022
	noSuchDomain     = 0xc00000df
	noSuchUser       = 0xc0000064
)

// ordinary are the attributes of a membership in a domain's group ([MS-SAMR] §2.2.1.10):
// mandatory, enabled by default, enabled.
const ordinary = 7

// openedGroup is a group of the server's that is open for its members to be read and
// written: a local one (an alias), which holds accounts of anywhere, or a domain's global
// one, which holds the domain's own.
type openedGroup struct {
	cli    samr.SamrClient
	h      *samr.Handle
	domain account.ID // of a global one
}

// HasMember tells whether a group of the server's own, or of the domain it answers for,
// has a member now.
func (c *Client) HasMember(ctx context.Context, m server.Member) (_ bool, err error) {
	defer server.Asked(ctx, "look for member", "server", c.link.Address(), "group", m.Group.String(), "member", m.Member.String())(&err)
	in, err := inTime(ctx, func(ctx context.Context) (in bool, err error) {
		err = c.inGroup(ctx, m.Group, func(ctx context.Context, g *openedGroup) error {
			in, err = g.has(ctx, m.Member)
			return err
		})
		return in, err
	})
	return in, c.ofMembers(err)
}

// SetMember makes a membership come or go. Where it has come or gone already nothing is
// done (ErrChanged): the server itself looks.
func (c *Client) SetMember(ctx context.Context, m server.Member, in bool) (err error) {
	defer server.Asked(ctx, "change member", "server", c.link.Address(), "group", m.Group.String(), "member", m.Member.String(), "in", in)(&err)
	_, err = inTime(ctx, func(ctx context.Context) (struct{}, error) {
		return struct{}{}, c.inGroup(ctx, m.Group, func(ctx context.Context, g *openedGroup) error { return g.set(ctx, m.Member, in) })
	})
	return c.ofMembers(err)
}

// inGroup opens a group for as long as fn takes.
func (c *Client) inGroup(ctx context.Context, group account.ID, fn func(context.Context, *openedGroup) error) error {
	ctx, conn, err := c.pipe(ctx, "samr")
	if err != nil {
		return err
	}
	defer conn.Close(ctx)
	g := openedGroup{}
	if g.cli, err = samr.NewSamrClient(ctx, conn, dcerpc.WithInsecure()); err != nil {
		return err
	}
	domain, rid, ok := group.Domain()
	if number, builtin := group.Named().Builtin(); builtin {
		domain, rid, ok = account.NewID(5, 32), number, true
	}
	if !ok {
		return fmt.Errorf("no server keeps members of %s", group)
	}
	sid, err := dtyp.ParseSID(domain.String())
	if err != nil {
		return err
	}
	sam, err := g.cli.Connect2(ctx, &samr.Connect2Request{DesiredAccess: asked})
	if err != nil {
		return err
	}
	open, err := g.cli.OpenDomain(ctx, &samr.OpenDomainRequest{Server: sam.Server, DesiredAccess: asked, DomainID: sid})
	if err != nil {
		return err
	}
	local, err := g.cli.OpenAlias(ctx, &samr.OpenAliasRequest{Domain: open.Domain, DesiredAccess: asked, AliasID: rid})
	if err == nil {
		g.h = local.AliasHandle
		return fn(ctx, &g)
	}
	if status(err) != noSuchAlias {
		return err
	}
	global, err := g.cli.OpenGroup(ctx, &samr.OpenGroupRequest{Domain: open.Domain, DesiredAccess: asked, GroupID: rid})
	if err != nil {
		return err
	}
	g.h, g.domain = global.GroupHandle, domain
	return fn(ctx, &g)
}

func (g *openedGroup) has(ctx context.Context, member account.ID) (bool, error) {
	if !g.domain.IsZero() {
		in, err := g.cli.GetMembersInGroup(ctx, &samr.GetMembersInGroupRequest{GroupHandle: g.h})
		if err != nil || in.Members == nil {
			return false, err
		}
		domain, rid, ok := member.Domain()
		return ok && domain == g.domain && slices.Contains(in.Members.Members, rid), nil
	}
	in, err := g.cli.GetMembersInAlias(ctx, &samr.GetMembersInAliasRequest{AliasHandle: g.h})
	if err != nil || in.Members == nil {
		return false, err
	}
	for _, m := range in.Members.SIDs {
		id, err := identifier(m.SIDPointer)
		if err != nil {
			return false, err
		}
		if id == member.Named() {
			return true, nil
		}
	}
	return false, nil
}

func (g *openedGroup) set(ctx context.Context, member account.ID, in bool) error {
	var err error
	if !g.domain.IsZero() {
		domain, rid, ok := member.Domain()
		switch {
		case !ok || domain != g.domain:
			return &ntstatus.Error{Code: invalidMember}
		case in:
			_, err = g.cli.AddMemberToGroup(ctx, &samr.AddMemberToGroupRequest{GroupHandle: g.h, MemberID: rid, Attributes: ordinary})
		default:
			_, err = g.cli.RemoveMemberFromGroup(ctx, &samr.RemoveMemberFromGroupRequest{GroupHandle: g.h, MemberID: rid})
		}
		return err
	}
	sid, err := dtyp.ParseSID(member.Named().String())
	if err != nil {
		return err
	}
	if in {
		_, err = g.cli.AddMemberToAlias(ctx, &samr.AddMemberToAliasRequest{AliasHandle: g.h, MemberID: sid})
	} else {
		_, err = g.cli.RemoveMemberFromAlias(ctx, &samr.RemoveMemberFromAliasRequest{AliasHandle: g.h, MemberID: sid})
	}
	return err
}

// status is what a service answered; 0: it didn't.
func status(err error) uint32 {
	if e := new(ntstatus.Error); errors.As(err, &e) {
		return uint32(e.Code)
	}
	return 0
}

// ofMembers puts what a service said of a group and its members into words; where it said
// nothing, nothing is known of what was asked.
func (c *Client) ofMembers(err error) error {
	if err == nil {
		return nil
	}
	switch status(err) {
	case 0:
		return c.gone(err)
	case memberInGroup, memberNotInGroup, memberInAlias, memberNotInAlias:
		return server.ErrChanged
	case noSuchGroup, noSuchAlias, noSuchDomain:
		return errors.New("the server has no such group")
	case noSuchMember, noSuchUser:
		return errors.New("the server doesn't know the member")
	case invalidMember:
		return errors.New("the server doesn't take such a member in this group")
	case accessDenied:
		return errors.New("the user may not")
	}
	return err
}
