//go:build unix

package smb

import (
	"context"
	"testing"

	"github.com/stretchr/testify/require"

	"tarnwold/internal/server/smb/smbtest"
)

// TestLocalGroups: groups in local groups of the server are told.
func TestLocalGroups(t *testing.T) {
	s := smbtest.Start(t, smbtest.Config{Users: []string{"warden", "bram"}, Groups: map[string][]string{"wardrobe": {"bram"}},
		Nested: map[string][]string{"acc-edit": {"wardrobe"}, "deep": {"acc-edit"}}, Shares: map[string]string{"a": ""}})
	all, members, err := dial(t, s, "warden").Accounts(context.Background())
	require.NoError(t, err)
	names := map[string]string{}
	for _, a := range all {
		names[a.ID.String()] = a.Name
	}
	var said []string
	for _, m := range members {
		said = append(said, names[m.Member.String()]+" in "+names[m.Group.String()])
	}
	require.ElementsMatch(t, []string{"wardrobe in acc-edit", "acc-edit in deep"}, said)
}
