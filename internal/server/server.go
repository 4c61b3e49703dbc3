// Package server says what is read of a live file server, whatever protocol it
// is asked by; each protocol is a package below.
package server

import (
	"context"
	"time"

	"tarnwold/core/account"
	"tarnwold/core/rule"
)

// Share is a share as the server has it.
type Share struct {
	Name   string
	Folder string // the server's own path, beginning with /
	Rules  *rule.Descriptor
}

// Item is one folder or file met by a scan.
type Item struct {
	Path     string // below the share's folder, parts joined by /; empty: that folder
	Folder   bool
	Rules    *rule.Descriptor
	Size     int64
	Modified time.Time
	Err      error // why its rules, or what is in it, couldn't be read
}

// Account is a user or group the server knows.
type Account struct {
	Kind account.Kind
	Name string
	ID   account.ID
}

// Member is a membership the server tells of.
type Member struct{ Group, Member account.ID }

// Server is one that is signed on to.
type Server interface {
	// Shares lists the shares with their rules, those of the system's own left out.
	Shares(ctx context.Context) ([]Share, error)
	// Scan calls fn with a share's folder and everything below it, a folder
	// before what is in it.
	Scan(ctx context.Context, share string, fn func(Item) error) error
	// Accounts lists the server's own users and groups, and who is in which.
	Accounts(ctx context.Context) ([]Account, []Member, error)
	// Names looks up what identifiers are called.
	Names(ctx context.Context, ids []account.ID) ([]Account, error)
	Close()
}
