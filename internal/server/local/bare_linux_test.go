package local

import (
	"runtime"
	"sync"
	"testing"

	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"
)

// bare walks a tree with the calls that a scan makes (getdents64, statx,
// llistxattr), by as many workers, and keeps nothing of it.
func bare(t testing.TB, c *Client, root string) {
	top, err := c.top(root)
	require.NoError(t, err)
	var mu sync.Mutex
	turn := sync.NewCond(&mu)
	open, busy := []string{"."}, 0
	var wg sync.WaitGroup
	for range max(4, runtime.GOMAXPROCS(0)) {
		wg.Go(func() {
			buf := make([]byte, 1<<16)
			var room [512]byte
			for {
				mu.Lock()
				for len(open) == 0 && busy > 0 {
					turn.Wait()
				}
				if len(open) == 0 {
					turn.Broadcast()
					mu.Unlock()
					return
				}
				dir := open[len(open)-1]
				open = open[:len(open)-1]
				busy++
				mu.Unlock()
				var more []string
				if fd, err := unix.Openat2(top.fd, dir, &unix.OpenHow{Flags: unix.O_RDONLY | unix.O_DIRECTORY | unix.O_CLOEXEC, Resolve: noLinks | unix.RESOLVE_BENEATH}); err == nil {
					here := proc(fd) + "/"
					for {
						n, err := unix.Getdents(fd, buf)
						if err != nil || n == 0 {
							break
						}
						_ = names(buf[:n], func(name string) error {
							var st unix.Statx_t
							_ = unix.Statx(fd, name, unix.AT_SYMLINK_NOFOLLOW, wanted, &st)
							_, _ = unix.Llistxattr(here+name, room[:])
							if st.Mode&unix.S_IFMT == unix.S_IFDIR {
								more = append(more, dir+"/"+name)
							}
							return nil
						})
					}
					unix.Close(fd)
				}
				mu.Lock()
				open = append(open, more...)
				busy--
				turn.Broadcast()
				mu.Unlock()
			}
		})
	}
	wg.Wait()
}
