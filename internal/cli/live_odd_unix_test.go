//go:build unix

package cli_test

import (
	"bytes"
	"context"
	"encoding/binary"
	"fmt"
	"io"
	"math/rand/v2"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	smb2 "github.com/cloudsoda/go-smb2"
	"github.com/stretchr/testify/require"

	"tarnwold/internal/cli/run"
	"tarnwold/internal/proptest"
	"tarnwold/internal/server/smb/smbtest"
)

// TestAStoppedScanGoesOn: stopped at any moment nothing is kept in the estate,
// what was read is kept beside it, and --resume goes on from there to the same
// as a scan that wasn't stopped.
func TestAStoppedScanGoesOn(t *testing.T) {
	proptest.Long(t)
	h := newTheatre(t, func(fs *smb2.Share) {
		for i := range 60 {
			require.NoError(t, fs.Mkdir(fmt.Sprintf(`Scripts\act %d`, i), 0o777))
			for k := range 12 {
				require.NoError(t, fs.WriteFile(fmt.Sprintf(`Scripts\act %d\scene %d`, i, k), nil, 0o644))
			}
		}
	})
	prog := program(t)
	port := slowly(t, h.s.Port)
	var dir, file, start string
	fresh := func() {
		dir = t.TempDir()
		must(t, dir, prog, "init")
		must(t, dir, prog, "server", "add", "stagedoor", "--smb", fmt.Sprintf("127.0.0.1:%d", port), "--user", "warden")
		file = filepath.Join(dir, "tarnwold.estate")
		start = content(t, file)
	}
	fresh()
	stopped, resumed := 0, 0
	soon := 300 * time.Millisecond // follows how fast this machine is at the moment
	for i := 0; i < 60 && resumed < 2; i++ {
		args := []string{"scan", "stagedoor", "--yes"}
		_, err := os.Stat(file + ".stagedoor.scan")
		if err == nil {
			args = append(args, "--resume")
		}
		c := exec.Command(prog, args...)
		c.Dir = dir
		var out bytes.Buffer
		c.Stdout, c.Stderr = &out, &out
		require.NoError(t, c.Start())
		time.Sleep(soon/2 + time.Duration(rand.Int64N(int64(soon))))
		_ = c.Process.Signal(syscall.SIGINT)
		ended := make(chan error, 1)
		go func() { ended <- c.Wait() }()
		select {
		case <-ended:
		case <-time.After(time.Minute):
			_ = c.Process.Signal(syscall.SIGQUIT)
			<-ended
			t.Fatalf("it doesn't end:\n%s", out.String())
		}
		switch {
		case strings.Contains(out.String(), "tarnwold scan stagedoor --resume goes on from there"):
			require.Equal(t, run.ExitTrouble, c.ProcessState.ExitCode())
			require.Equal(t, start, content(t, file), "nothing is kept")
			require.FileExists(t, file+".stagedoor.scan")
			if stopped++; err == nil {
				resumed++
			}
		case strings.Contains(out.String(), "Kept as change"):
			require.NotContains(t, out.String(), "nothing was changed")
			fresh()
			soon = soon * 2 / 3
		default:
			soon = soon * 4 / 3
		}
	}
	t.Logf("stopped %d times, gone on with %d times", stopped, resumed)
	require.Positive(t, stopped)
	args := []string{"scan", "stagedoor", "--yes"}
	if _, err := os.Stat(file + ".stagedoor.scan"); err == nil {
		args = append(args, "--resume")
	}
	must(t, dir, prog, args...)
	require.NoFileExists(t, file+".stagedoor.scan")
	said, _ := exec.Command(prog, "--estate", file, "drift", "stagedoor").CombinedOutput()
	require.Contains(t, string(said), "stagedoor is as the estate has it")
	must(t, dir, prog, "check")
	no := exec.Command(prog, "scan", "stagedoor", "--resume")
	no.Dir = dir
	text, err := no.CombinedOutput()
	require.Error(t, err)
	require.Contains(t, string(text), "no scan of server stagedoor was broken off; scan it from the beginning: leave out --resume")
}

// TestServersThatGoWrong: whatever a server does, what is said is clear, and the
// estate is whole and as it was.
func TestServersThatGoWrong(t *testing.T) {
	h := newTheatre(t, nil)
	file, err := os.Getwd()
	require.NoError(t, err)
	file = filepath.Join(file, "tarnwold.estate")
	start := content(t, file)
	same := func() {
		h.run(0, "check")
		require.Equal(t, start, content(t, file))
	}
	t.Setenv("TARNWOLD_PASSWORD", "not that")
	require.Contains(t, h.run(3, "scan", "stagedoor"), "refused the sign-on: the user's name or password is wrong")
	require.NotContains(t, h.out.String(), "not that")
	require.Contains(t, h.run(3, "grant", "wardrobe", "read", "//stagedoor/productions/Scripts", "--yes"), "the user's name or password is wrong")
	same()
	t.Setenv("TARNWOLD_PASSWORD", smbtest.Password("warden"))

	// A share whose folder is gone is told of; the rest is read.
	require.NoError(t, os.RemoveAll(filepath.Join(h.s.Dir, "reading")))
	said := h.run(3, "scan", "stagedoor", "--yes")
	require.Contains(t, said, "not read: reading: ")
	require.Contains(t, said, "1 item could not be read and is left out, with what is below")
	require.NoError(t, os.MkdirAll(filepath.Join(h.s.Dir, "reading"), 0o777))
	require.NoError(t, os.Chmod(filepath.Join(h.s.Dir, "reading"), 0o777))

	// Links that lead out of a share are not followed.
	require.NoError(t, os.Symlink("/etc", filepath.Join(h.s.Dir, "productions", "out")))
	said = h.run(0, "scan", "stagedoor", "--yes")
	require.NotContains(t, said, "passwd\n")
	require.Contains(t, h.run(0, "drift", "stagedoor"), "is as the estate has it")
	h.run(0, "drift", "stagedoor", "--format", "json") // held to its schema, as the next
	h.run(0, "server", "test", "stagedoor", "--format", "json")
	require.NoError(t, os.Unsetenv("TARNWOLD_PASSWORD")) // put back at once
	require.NoError(t, os.WriteFile("stagedoor.secret", []byte(smbtest.Password("warden")), 0o600))
	require.Contains(t, h.run(2, "server", "test", "stagedoor"), "no password")
	h.run(0, "server", "set", "stagedoor", "--password-at", "stagedoor.secret")
	require.Contains(t, h.run(0, "server", "show", "stagedoor"), "with the password in /")
	h.run(0, "server", "test", "stagedoor")
	h.run(0, "server", "set", "stagedoor", "--patience", "30s") // what isn't said stays
	h.run(0, "server", "test", "stagedoor")
	h.run(0, "server", "set", "stagedoor", "--password-at", "")
	require.Contains(t, h.run(2, "server", "test", "stagedoor"), "no password")
	require.NoError(t, os.Setenv("TARNWOLD_PASSWORD", smbtest.Password("warden")))
	require.NoError(t, os.Remove(filepath.Join(h.s.Dir, "productions", "out")))
	h.run(0, "scan", "stagedoor", "--yes")
	start = content(t, file)

	// One who may not read the rules is told so, folder by folder.
	h.give("Scripts", "PAI(A;OICI;FA;;;{warden})")
	bram := filepath.Join(t.TempDir(), "password")
	require.NoError(t, os.WriteFile(bram, []byte(smbtest.Password("bram")+"\n"), 0o600))
	h.run(0, "init", "other.estate")
	h.run(0, "--estate", "other.estate", "server", "add", "stagedoor", "--smb", fmt.Sprintf("127.0.0.1:%d", h.s.Port), "--user", "bram")
	said = h.run(3, "--estate", "other.estate", "scan", "stagedoor", "productions", "--password-file", bram)
	require.Contains(t, said, "could not be read")
	h.run(0, "--estate", "other.estate", "check")
	require.NoError(t, os.Chmod(bram, 0o644))
	require.Contains(t, h.run(2, "--estate", "other.estate", "scan", "stagedoor", "--password-file", bram), "can be read by others than its owner; chmod 600")
	h.give("Scripts", "PAI(A;OICI;FA;;;{warden})(A;OICIID;FA;;;{warden})(A;OICIID;0x1200a9;;;{volunteers})")

	// Another machine that answers by the same name is found out.
	other := smbtest.Start(t, smbtest.Config{Users: []string{"warden"}, Groups: map[string][]string{"wardrobe": nil}, Shares: map[string]string{"productions": ""}})
	relay(t, h.s.Port, other.Port, func(port int) {
		h.run(0, "init", "relayed.estate")
		h.run(0, "--estate", "relayed.estate", "server", "add", "stagedoor", "--smb", fmt.Sprintf("127.0.0.1:%d", port), "--user", "warden")
		h.run(0, "--estate", "relayed.estate", "scan", "stagedoor")
	}, func(port int) {
		said := h.run(3, "--estate", "relayed.estate", "scan", "stagedoor")
		require.Contains(t, said, "stagedoor is another machine than the one that was read before")
		require.Contains(t, h.run(3, "--estate", "relayed.estate", "drift", "stagedoor"), "another machine")
	})

	// A server that answers nothing that makes sense.
	for name, answer := range map[string][]byte{"silence": nil, "noise": bytes.Repeat([]byte{0xa5}, 300), "a length that lies": {0, 0xff, 0xff, 0xff, 1}, "nothing of SMB": append([]byte{0, 0, 0, 80}, make([]byte, 80)...)} {
		l, err := net.Listen("tcp", "127.0.0.1:0")
		require.NoError(t, err)
		go func() {
			for {
				c, err := l.Accept()
				if err != nil {
					return
				}
				go func() {
					var head [4]byte
					_, _ = io.ReadFull(c, head[:])
					_, _ = io.CopyN(io.Discard, c, int64(binary.BigEndian.Uint32(head[:])&0xffffff))
					_, _ = c.Write(answer)
					c.Close()
				}()
			}
		}()
		h.run(0, "init", strings.ReplaceAll(name, " ", "-"))
		h.run(0, "--estate", strings.ReplaceAll(name, " ", "-"), "server", "add", "odd", "--smb", l.Addr().String(), "--user", "warden")
		require.Contains(t, h.run(3, "--estate", strings.ReplaceAll(name, " ", "-"), "scan", "odd"), "refused the sign-on", name)
		l.Close()
	}

	// One that goes away while it is written to, and comes back.
	start = content(t, file)
	h.s.Kill()
	require.Contains(t, h.run(3, "grant", "wardrobe", "read", "//stagedoor/productions/Scripts", "--yes"), "can't be reached: connect: connection refused")
	require.Contains(t, h.run(3, "drift", "stagedoor"), "can't be reached")
	require.Contains(t, h.run(3, "explain", "bram", "//stagedoor/productions/Scripts", "--live"), "can't be reached")
	same()
}

// slowly forwards a port, an answer at a time, each a little late.
func slowly(t *testing.T, to int) int {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	t.Cleanup(func() { l.Close() })
	go func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			up, err := net.Dial("tcp", fmt.Sprintf("127.0.0.1:%d", to))
			if err != nil {
				c.Close()
				continue
			}
			go func() { _, _ = io.Copy(up, c); up.Close() }()
			go func() {
				b := make([]byte, 64<<10)
				for {
					n, err := up.Read(b)
					if err != nil {
						c.Close()
						return
					}
					time.Sleep(5 * time.Millisecond)
					if _, err := c.Write(b[:n]); err != nil {
						return
					}
				}
			}()
		}
	}()
	return l.Addr().(*net.TCPAddr).Port
}

// relay forwards one port to two servers, one after the other.
func relay(t *testing.T, first, second int, before, after func(port int)) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer l.Close()
	var m sync.Mutex
	to := first
	go func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			m.Lock()
			up, err := net.Dial("tcp", fmt.Sprintf("127.0.0.1:%d", to))
			m.Unlock()
			if err != nil {
				c.Close()
				continue
			}
			go func() { _, _ = io.Copy(up, c); up.Close() }()
			go func() { _, _ = io.Copy(c, up); c.Close() }()
		}
	}()
	port := l.Addr().(*net.TCPAddr).Port
	before(port)
	m.Lock()
	to = second
	m.Unlock()
	after(port)
}

// TestTwoAdministratorsAtOnce: of changes written to one server at once none is
// lost: each is on the server and in the estate, or its maker was told.
func TestTwoAdministratorsAtOnce(t *testing.T) {
	proptest.Long(t)
	newTheatre(t, func(fs *smb2.Share) {
		for i := range 12 {
			require.NoError(t, fs.Mkdir(fmt.Sprintf(`Scripts\act %d`, i), 0o777))
		}
	})
	prog := program(t)
	dir, err := os.Getwd()
	require.NoError(t, err)
	var wg sync.WaitGroup
	var m sync.Mutex
	var done, told []int
	for i := range 12 {
		wg.Go(func() {
			c := exec.CommandContext(context.Background(), prog, "grant", "wardrobe", "edit", fmt.Sprintf("//stagedoor/productions/Scripts/act %d", i), "--yes", "--as", "warden")
			c.Dir = dir
			out, err := c.CombinedOutput()
			m.Lock()
			defer m.Unlock()
			if err == nil {
				done = append(done, i)
				return
			}
			require.Equal(t, run.ExitTrouble, c.ProcessState.ExitCode(), "%s", out)
			require.Regexp(t, "another process is writing|takes no other until|changed by someone else meanwhile", string(out))
			told = append(told, i)
		})
	}
	wg.Wait()
	t.Logf("%d written, %d told to try again", len(done), len(told))
	require.NotEmpty(t, done)
	require.Contains(t, must(t, dir, prog, "drift", "stagedoor"), "is as the estate has it")
	for _, i := range done {
		require.Contains(t, must(t, dir, prog, "show", fmt.Sprintf("//stagedoor/productions/Scripts/act %d", i)), "allow wardrobe edit")
	}
	for _, i := range told {
		require.NotContains(t, must(t, dir, prog, "show", fmt.Sprintf("//stagedoor/productions/Scripts/act %d", i)), "allow wardrobe edit")
	}
	must(t, dir, prog, "check")
}
