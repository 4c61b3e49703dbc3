package smb

import (
	"context"
	"strings"

	"github.com/oiweiwei/go-msrpc/dcerpc"
	"github.com/oiweiwei/go-msrpc/msrpc/dtyp"
	"github.com/oiweiwei/go-msrpc/msrpc/lsad/lsarpc/v0"

	"tarnwold/core/account"
	"tarnwold/core/verdict"
	"tarnwold/internal/server"
)

// noMoreEntries is how a server says that nobody has a privilege (STATUS_NO_MORE_ENTRIES).
const noMoreEntries = "0x8000001a"

// Privileges asks who has the privileges that count ([MS-LSAD] §3.1.4.5.2). One that the
// server doesn't tell of, to whoever asks or at all, is left out.
func (c *Client) Privileges(ctx context.Context) (_ map[verdict.Privilege][]account.ID, err error) {
	defer server.Asked(ctx, "read privileges", "server", c.link.Address())(&err)
	return inTime(ctx, c.privileges)
}

func (c *Client) privileges(ctx context.Context) (map[verdict.Privilege][]account.ID, error) {
	ctx, conn, err := c.pipe(ctx, "lsarpc")
	if err != nil {
		return nil, err
	}
	defer conn.Close(ctx)
	cli, err := lsarpc.NewLsarpcClient(ctx, conn, dcerpc.WithInsecure())
	if err != nil {
		return nil, err
	}
	policy, err := cli.OpenPolicy2(ctx, &lsarpc.OpenPolicy2Request{ObjectAttributes: &lsarpc.ObjectAttributes{}, DesiredAccess: asked})
	if err != nil {
		return nil, err
	}
	out := map[verdict.Privilege][]account.ID{}
	for _, p := range verdict.Privileges() {
		r, err := cli.EnumerateAccountsWithUserRight(ctx, &lsarpc.EnumerateAccountsWithUserRightRequest{Policy: policy.Policy,
			UserRight: &dtyp.UnicodeString{Buffer: string(p)}})
		switch {
		case err != nil && strings.Contains(strings.ToLower(err.Error()), noMoreEntries):
			out[p] = nil
			continue
		case err != nil, r == nil, r.EnumerationBuffer == nil:
			continue
		}
		out[p] = nil
		for _, a := range r.EnumerationBuffer.Information {
			if a == nil {
				continue
			}
			id, err := identifier(a.SID)
			if err != nil {
				return nil, err
			}
			out[p] = append(out[p], id)
		}
	}
	return out, nil
}
