// Package local is the machine itself as a file server: it reads the trees of
// its own file systems with owners, groups, modes and lists, and writes them.
//
// Whatever is read or written is opened from a tree's top downward without
// following a link, and what is written is the very thing that was looked at
// (openat2(2), O_PATH). Tops are named as shares are; Share in package server
// is such a top here.
package local

import (
	"crypto/sha256"
	"encoding/binary"
	"os"
	"strings"

	"tarnwold/core/account"
	"tarnwold/internal/server"
)

// Link says which trees of the machine are meant where none are said.
type Link struct {
	Roots []string `json:"roots,omitempty"` // scanned before
	// Mounts: file systems mounted in them are gone into.
	Mounts bool `json:"mounts,omitempty"`
}

// Machine tells one machine from another, as the domain that its accounts
// would be of: by the identifier it was given when it was set up; zero where it
// was given none.
func (c *Client) Machine() account.ID {
	text, err := os.ReadFile("/etc/machine-id")
	if id := strings.TrimSpace(string(text)); err == nil && id != "" {
		h := sha256.Sum256([]byte("tarnwold " + id))
		return account.NewID(5, 21, binary.LittleEndian.Uint32(h[0:]), binary.LittleEndian.Uint32(h[4:]), binary.LittleEndian.Uint32(h[8:]))
	}
	return account.ID{}
}

var _ server.Server = (*Client)(nil)
