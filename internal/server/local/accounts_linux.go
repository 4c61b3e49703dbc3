package local

import (
	"bytes"
	"context"
	"fmt"
	"os"
	"os/exec"
	"strings"

	"tarnwold/core/account"
	"tarnwold/internal/format/passwd"
	"tarnwold/internal/server"
)

// Accounts lists the users and groups the system knows, by its own name
// services where it tells them all (getent), and by passwd(5) and group(5)
// otherwise.
func (c *Client) Accounts(ctx context.Context) ([]server.Account, []server.Member, error) {
	out, err := listed(ctx, nil, nil)
	if err != nil {
		return nil, nil, err
	}
	return out, nil, nil
}

// Names looks up what numbers are called that no list told of.
func (c *Client) Names(ctx context.Context, ids []account.ID) ([]server.Account, error) {
	var users, groups []string
	for _, id := range ids {
		if n, user, ok := id.POSIX(); ok && user {
			users = append(users, fmt.Sprint(n))
		} else if ok {
			groups = append(groups, fmt.Sprint(n))
		}
	}
	if len(users)+len(groups) == 0 {
		return nil, nil
	}
	return listed(ctx, users, groups)
}

// listed asks for users and groups by their numbers; for all where both are nil.
func listed(ctx context.Context, users, groups []string) ([]server.Account, error) {
	all := users == nil && groups == nil
	ask := func(what, file string, keys []string) ([]byte, error) {
		if !all && len(keys) == 0 {
			return nil, nil
		}
		text, err := exec.CommandContext(ctx, "getent", append([]string{what, "--"}, keys...)...).Output()
		if all && (err != nil || len(text) == 0) {
			return os.ReadFile(file)
		}
		if ctx.Err() != nil {
			return nil, ctx.Err()
		}
		return text, nil // of several, some may be unknown
	}
	text, err := ask("passwd", "/etc/passwd", users)
	if err != nil {
		return nil, err
	}
	people, err := passwd.Users(bytes.NewReader(text), "passwd")
	if err != nil {
		return nil, err
	}
	text, err = ask("group", "/etc/group", groups)
	if err != nil {
		return nil, err
	}
	crowd, members, err := passwd.Groups(bytes.NewReader(text), "group")
	if err != nil {
		return nil, err
	}
	in := map[string][]string{}
	for _, m := range members.All() {
		name := strings.TrimPrefix(m.Member, "user:")
		in[name] = append(in[name], strings.TrimPrefix(m.Group, "group:"))
	}
	var out []server.Account
	for _, u := range people {
		a := server.Account{Kind: account.User, Name: u.Name, Numbered: true, Number: uint32(u.POSIX), First: uint32(u.PrimaryGID), In: in[u.Name]}
		out = append(out, a)
	}
	for _, g := range crowd {
		out = append(out, server.Account{Kind: account.Group, Name: g.Name, Numbered: true, Number: uint32(g.POSIX)})
	}
	return out, nil
}
