//go:build !linux

package local

import (
	"context"
	"errors"
	"time"

	"tarnwold/core/account"
	"tarnwold/core/rule"
	"tarnwold/internal/server"
)

var errElsewhere = errors.New("the trees of this machine itself are read and written on Linux alone")

// Client is the machine itself; on this system there is none.
type Client struct{}

// Open gives the machine itself, for some trees.
func Open(Link) (*Client, error) { return nil, errElsewhere }

func (*Client) Shares(context.Context) ([]server.Share, error) { return nil, errElsewhere }
func (*Client) Scan(context.Context, string, server.Reading, func(server.Item) error) error {
	return errElsewhere
}
func (*Client) Look(context.Context, string, string, bool) (server.Item, error) {
	return server.Item{}, errElsewhere
}
func (*Client) Accounts(context.Context) ([]server.Account, []server.Member, error) {
	return nil, nil, errElsewhere
}
func (*Client) Names(context.Context, []account.ID) ([]server.Account, error) {
	return nil, errElsewhere
}
func (*Client) Write(context.Context, server.Writing) error { return errElsewhere }
func (*Client) Settles() time.Duration                      { return 0 }
func (*Client) ShareRules(context.Context, string) (*rule.Descriptor, error) {
	return nil, errElsewhere
}
func (*Client) HasMember(context.Context, server.Member) (bool, error) { return false, errElsewhere }
func (*Client) SetMember(context.Context, server.Member, bool) error   { return errElsewhere }
func (*Client) Close()                                                 {}
