//go:build !unix

package cli

// owns can't tell here whose a file is.
func owns(string) bool { return true }
