package smb

import (
	"context"
	"fmt"
	"strings"

	"github.com/oiweiwei/go-msrpc/dcerpc"
	"github.com/oiweiwei/go-msrpc/msrpc/dtyp"
	"github.com/oiweiwei/go-msrpc/msrpc/samr/samr/v1"

	"tarnwold/core/account"
	"tarnwold/internal/server"
)

// asked is MAXIMUM_ALLOWED ([MS-DTYP] §2.4.3).
const asked = 0x02000000

// book is the accounts of a server as they are read ([MS-SAMR] §3.1.5).
type book struct {
	cli     samr.SamrClient
	out     []server.Account
	members []server.Member
}

// Accounts lists the server's own users and groups and who is in which; of a
// domain controller those of the domain, and the groups every machine has (BUILTIN).
func (c *Client) Accounts(ctx context.Context) (_ []server.Account, _ []server.Member, err error) {
	defer server.Asked(ctx, "read accounts", "server", c.link.Address())(&err)
	b, err := inTime(ctx, c.book)
	if err != nil || b == nil {
		return nil, nil, err
	}
	return b.out, b.members, nil
}

func (c *Client) book(ctx context.Context) (*book, error) {
	ctx, conn, err := c.pipe(ctx, "samr")
	if err != nil {
		return nil, c.failed(err)
	}
	defer conn.Close(ctx)
	cli, err := samr.NewSamrClient(ctx, conn, dcerpc.WithInsecure())
	if err != nil {
		return nil, err
	}
	sam, err := cli.Connect2(ctx, &samr.Connect2Request{DesiredAccess: asked})
	if err != nil {
		return nil, err
	}
	domains, err := cli.EnumerateDomainsInSAMServer(ctx, &samr.EnumerateDomainsInSAMServerRequest{Server: sam.Server, PreferredMaximumLength: 0xffff})
	if err != nil {
		return nil, err
	}
	if domains.Buffer == nil {
		return nil, nil
	}
	b := &book{cli: cli}
	for _, d := range domains.Buffer.Buffer {
		if err := b.domain(ctx, sam.Server, text(d.Name), d.Name); err != nil {
			return nil, fmt.Errorf("%s: %w", text(d.Name), err)
		}
	}
	return b, nil
}

func (b *book) domain(ctx context.Context, sam *samr.Handle, name string, asName *dtyp.UnicodeString) error {
	found, err := b.cli.LookupDomainInSAMServer(ctx, &samr.LookupDomainInSAMServerRequest{Server: sam, Name: asName})
	if err != nil {
		return err
	}
	id, err := identifier(found.DomainID)
	if err != nil {
		return err
	}
	open, err := b.cli.OpenDomain(ctx, &samr.OpenDomainRequest{Server: sam, DesiredAccess: asked, DomainID: found.DomainID})
	if err != nil {
		return err
	}
	h := open.Domain
	builtin := strings.EqualFold(name, "builtin")
	if !builtin {
		if err := b.users(ctx, h, id, name); err != nil {
			return err
		}
		if err := b.groups(ctx, h, id, name); err != nil {
			return err
		}
	}
	return b.aliases(ctx, h, id, name, builtin)
}

// each goes through an enumeration, part by part, as long as parts come.
func each(fetch func(next uint32) (*samr.EnumerationBuffer, uint32, error), fn func(rid uint32, name string) error) error {
	for next := uint32(0); ; {
		got, then, err := fetch(next)
		if got == nil {
			return err
		}
		for _, e := range got.Buffer {
			if e == nil {
				continue
			}
			if ferr := fn(e.RelativeID, text(e.Name)); ferr != nil {
				return ferr
			}
		}
		if err == nil || len(got.Buffer) == 0 || then == next {
			return nil
		}
		next = then
	}
}

const part = 0xffff // bytes of an enumeration at once

func (b *book) users(ctx context.Context, h *samr.Handle, id account.ID, domain string) error {
	return each(func(next uint32) (*samr.EnumerationBuffer, uint32, error) {
		r, err := b.cli.EnumerateUsersInDomain(ctx, &samr.EnumerateUsersInDomainRequest{Domain: h, EnumerationContext: next, PreferredMaximumLength: part})
		if r == nil {
			return nil, 0, err
		}
		return r.Buffer, r.EnumerationContext, err
	}, func(rid uint32, name string) error {
		b.out = append(b.out, server.Account{Kind: account.User, Name: name, Domain: domain, ID: id.Child(rid)})
		return nil
	})
}

// groups lists a domain's global groups; a server that keeps none says so or
// doesn't know the request.
func (b *book) groups(ctx context.Context, h *samr.Handle, id account.ID, domain string) error {
	return each(func(next uint32) (*samr.EnumerationBuffer, uint32, error) {
		r, err := b.cli.EnumerateGroupsInDomain(ctx, &samr.EnumerateGroupsInDomainRequest{Domain: h, EnumerationContext: next, PreferredMaximumLength: part})
		if r == nil || r.Buffer == nil {
			return nil, 0, nil
		}
		return r.Buffer, r.EnumerationContext, err
	}, func(rid uint32, name string) error {
		group := id.Child(rid)
		b.out = append(b.out, server.Account{Kind: account.Group, Name: name, Domain: domain, ID: group})
		if rid == account.DomainUsersRID {
			return nil // everyone of the domain is in it, which needn't be told one by one
		}
		g, err := b.cli.OpenGroup(ctx, &samr.OpenGroupRequest{Domain: h, DesiredAccess: asked, GroupID: rid})
		if err != nil {
			return fmt.Errorf("group %s: %w", name, err)
		}
		defer func() { _, _ = b.cli.CloseHandle(ctx, &samr.CloseHandleRequest{SAMHandle: g.GroupHandle}) }()
		in, err := b.cli.GetMembersInGroup(ctx, &samr.GetMembersInGroupRequest{GroupHandle: g.GroupHandle})
		if err != nil {
			return fmt.Errorf("group %s: %w", name, err)
		}
		if in.Members != nil {
			for _, m := range in.Members.Members {
				b.members = append(b.members, server.Member{Group: group, Member: id.Child(m)})
			}
		}
		return nil
	})
}

// aliases lists a domain's or machine's local groups, which hold accounts of
// anywhere. Built-in ones that a server doesn't list may be there all the same.
func (b *book) aliases(ctx context.Context, h *samr.Handle, id account.ID, domain string, builtin bool) error {
	listed := map[uint32]bool{}
	err := each(func(next uint32) (*samr.EnumerationBuffer, uint32, error) {
		r, err := b.cli.EnumerateAliasesInDomain(ctx, &samr.EnumerateAliasesInDomainRequest{Domain: h, EnumerationContext: next, PreferredMaximumLength: part})
		if r == nil {
			return nil, 0, err
		}
		return r.Buffer, r.EnumerationContext, err
	}, func(rid uint32, name string) error {
		listed[rid] = true
		a, err := b.cli.OpenAlias(ctx, &samr.OpenAliasRequest{Domain: h, DesiredAccess: asked, AliasID: rid})
		if err != nil {
			return fmt.Errorf("group %s: %w", name, err)
		}
		return b.alias(ctx, a.AliasHandle, id.Child(rid), name, domain)
	})
	for _, group := range account.BuiltinIDs() {
		rid, _ := group.Builtin()
		if !builtin || listed[rid] || err != nil {
			continue
		}
		a, closed := b.cli.OpenAlias(ctx, &samr.OpenAliasRequest{Domain: h, DesiredAccess: asked, AliasID: rid})
		if closed != nil {
			continue // it has none of that number
		}
		name, _ := account.SpecialName(group)
		err = b.alias(ctx, a.AliasHandle, group, name, domain)
	}
	return err
}

// alias tells of a local group that was opened.
func (b *book) alias(ctx context.Context, h *samr.Handle, group account.ID, name, domain string) error {
	defer func() { _, _ = b.cli.CloseHandle(ctx, &samr.CloseHandleRequest{SAMHandle: h}) }()
	in, err := b.cli.GetMembersInAlias(ctx, &samr.GetMembersInAliasRequest{AliasHandle: h})
	if err != nil {
		return fmt.Errorf("group %s: %w", name, err)
	}
	b.out = append(b.out, server.Account{Kind: account.Group, Name: name, Domain: domain, ID: group})
	if in.Members == nil {
		return nil
	}
	for _, m := range in.Members.SIDs {
		member, err := identifier(m.SIDPointer)
		if err != nil {
			return fmt.Errorf("group %s: %w", name, err)
		}
		b.members = append(b.members, server.Member{Group: group, Member: member})
	}
	return nil
}
