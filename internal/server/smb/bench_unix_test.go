//go:build unix

package smb

import (
	"context"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"runtime"
	"strings"
	"sync"
	"testing"
	"time"

	smb2 "github.com/cloudsoda/go-smb2"
	"github.com/stretchr/testify/require"

	"tarnwold/internal/server"
	"tarnwold/internal/server/smb/smbtest"
)

// BenchmarkScan reads 50,000 items of a real server, and beside it, in the same
// run, does the least that reading them can be: a loop that lists folders and
// takes their descriptors through the same library by as many connections.
// ratio is the scan's rate to the loop's. memory is what the scan holds at most
// beyond what it held at first, for 10,000 and for 50,000 items.
func BenchmarkScan(b *testing.B) {
	s := smbtest.Start(b, playhouse)
	top := filepath.Join(s.Dir, "productions")
	const folders, files = 500, 99
	for i := range folders {
		dir := filepath.Join(top, fmt.Sprintf("season %d", i%20), fmt.Sprintf("act %d", i))
		require.NoError(b, os.MkdirAll(dir, 0o777))
		for k := range files {
			require.NoError(b, os.WriteFile(filepath.Join(dir, fmt.Sprintf("scene %d.txt", k)), nil, 0o666))
		}
	}
	c, err := Dial(context.Background(), Link{Host: "127.0.0.1", Port: s.Port, User: "warden"}, Secret{Password: smbtest.Password("warden")})
	require.NoError(b, err)
	defer c.Close()
	scan := func() (n int, most uint64) {
		var before, now runtime.MemStats
		runtime.GC()
		runtime.ReadMemStats(&before)
		require.NoError(b, c.Scan(context.Background(), "productions", server.Reading{}, func(x server.Item) error {
			if x.Err != nil {
				return x.Err
			}
			if !x.Whole {
				if n++; n%10_000 == 0 {
					runtime.GC()
					runtime.ReadMemStats(&now)
					most = max(most, now.HeapAlloc-min(before.HeapAlloc, now.HeapAlloc))
				}
			}
			return nil
		}))
		return n, most
	}
	bareLoop(b, s) // the server's own memory of the folders is warm for both
	var ours, bare time.Duration
	var items int
	var most uint64
	for range b.N {
		began := time.Now()
		n := bareLoop(b, s)
		bare += time.Since(began)
		began = time.Now()
		items, most = scan()
		ours += time.Since(began)
		require.Equal(b, n, items)
	}
	b.ReportMetric(float64(bare)/float64(ours), "ratio")
	b.ReportMetric(float64(items)*float64(b.N)/ours.Seconds(), "items/s")
	b.ReportMetric(float64(most), "B-held")
	b.ReportMetric(0, "ns/op")
}

// bareLoop lists every folder with its descriptors, and does nothing with them.
func bareLoop(b *testing.B, s *smbtest.Server) int {
	var m sync.Mutex
	turn := sync.NewCond(&m)
	todo, busy, items := []string{""}, 0, 1
	var wg sync.WaitGroup
	for range Connections {
		wg.Go(func() {
			d := &smb2.Dialer{Negotiator: smb2.Negotiator{RequireMessageSigning: true}, Initiator: &smb2.NTLMInitiator{User: "warden", Password: smbtest.Password("warden")}}
			c, err := d.Dial(context.Background(), fmt.Sprintf("127.0.0.1:%d", s.Port))
			require.NoError(b, err)
			defer func() { _ = c.Logoff() }()
			in, err := c.Mount("productions")
			require.NoError(b, err)
			for {
				m.Lock()
				for len(todo) == 0 && busy > 0 {
					turn.Wait()
				}
				if len(todo) == 0 {
					turn.Broadcast()
					m.Unlock()
					return
				}
				dir := todo[len(todo)-1]
				todo = todo[:len(todo)-1]
				busy++
				m.Unlock()
				f, err := in.Open(dir)
				require.NoError(b, err)
				var below []string
				n := 0
				for {
					got, err := f.ReaddirPlus(batch, everything)
					for i := range got {
						n++
						if got[i].IsDir() {
							below = append(below, strings.TrimPrefix(dir+`\`+got[i].Name(), `\`))
						}
					}
					if err == io.EOF || len(got) == 0 {
						break
					}
					require.NoError(b, err)
				}
				_ = f.Close()
				m.Lock()
				todo = append(todo, below...)
				busy--
				items += n
				turn.Broadcast()
				m.Unlock()
			}
		})
	}
	wg.Wait()
	return items
}
