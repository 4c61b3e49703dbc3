//go:build unix

package cli_test

import (
	"bufio"
	"bytes"
	"encoding/base64"
	"encoding/json"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"tarnwold/internal/cli"
)

// browser is a headless Chromium spoken to over a pipe, in the protocol its
// developer tools use.
type browser struct {
	t       *testing.T
	in      *os.File
	out     *bufio.Reader
	id      int
	session string
}

// browse opens a page in Chromium; without one the test is passed over.
func browse(t *testing.T, page string) *browser {
	path, err := exec.LookPath("chromium")
	if err != nil {
		t.Skip("*** SKIPPED: there is no chromium here to open the page with ***")
	}
	toR, toW, err := os.Pipe()
	require.NoError(t, err)
	fromR, fromW, err := os.Pipe()
	require.NoError(t, err)
	profile, err := os.MkdirTemp("", "tarnwold-page-")
	require.NoError(t, err)
	c := exec.Command(path, "--headless", "--no-sandbox", "--disable-gpu", "--disable-dev-shm-usage", "--remote-debugging-pipe", "--user-data-dir="+profile, "about:blank")
	c.ExtraFiles = []*os.File{toR, fromW} // 3 and 4
	require.NoError(t, c.Start())
	toR.Close()
	fromW.Close()
	require.NoError(t, fromR.SetReadDeadline(time.Now().Add(90*time.Second)))
	t.Cleanup(func() {
		toW.Close()
		_ = c.Process.Kill()
		_ = c.Wait()
		for range 50 { // its own helpers may write for a moment yet
			if os.RemoveAll(profile) == nil {
				break
			}
			time.Sleep(20 * time.Millisecond)
		}
	})
	b := &browser{t: t, in: toW, out: bufio.NewReader(fromR)}
	var target struct{ TargetID string }
	b.call("Target.createTarget", map[string]any{"url": "file://" + page}, &target)
	var at struct{ SessionID string }
	b.call("Target.attachToTarget", map[string]any{"targetId": target.TargetID, "flatten": true}, &at)
	b.session = at.SessionID
	for b.run("location.protocol + document.readyState") != "file:complete" {
		time.Sleep(20 * time.Millisecond)
	}
	return b
}

func (b *browser) call(method string, params any, into any) {
	b.id++
	m, err := json.Marshal(map[string]any{"id": b.id, "method": method, "params": params, "sessionId": b.session})
	require.NoError(b.t, err)
	if b.session == "" {
		m = bytes.Replace(m, []byte(`,"sessionId":""`), nil, 1)
	}
	_, err = b.in.Write(append(m, 0))
	require.NoError(b.t, err)
	for {
		line, err := b.out.ReadBytes(0)
		require.NoError(b.t, err)
		var got struct {
			ID     int
			Result json.RawMessage
			Error  *struct{ Message string }
		}
		require.NoError(b.t, json.Unmarshal(line[:len(line)-1], &got))
		if got.ID != b.id {
			continue // something else happened
		}
		require.Nil(b.t, got.Error, method)
		if into != nil {
			require.NoError(b.t, json.Unmarshal(got.Result, into))
		}
		return
	}
}

// run runs a script in the page, and gives its value as text.
func (b *browser) run(script string) string {
	var got struct {
		Result struct {
			Value any
		}
		ExceptionDetails *struct{ Text string }
	}
	b.call("Runtime.evaluate", map[string]any{"expression": script, "returnByValue": true}, &got)
	require.Nil(b.t, got.ExceptionDetails, script)
	s, _ := got.Result.Value.(string)
	return s
}

// names are the rows that are to be seen.
func (b *browser) names() []string {
	s := b.run(`[...document.querySelectorAll("tbody tr")].filter(r => !r.hidden).map(r => r.querySelector(".name").textContent).join("\n")`)
	return strings.Split(s, "\n")
}

func (b *browser) key(key string) {
	for _, typ := range []string{"keyDown", "keyUp"} {
		m := map[string]any{"type": typ, "key": key, "code": key}
		if typ == "keyDown" && key == "Enter" {
			m["text"], m["windowsVirtualKeyCode"] = "\r", 13
		}
		b.call("Input.dispatchKeyEvent", m, nil)
	}
}

// TestPageOpensClosesAndSearches: a page is one file that a browser shows, with
// a tree that opens and closes, a search box, everything on paper, and names
// and roles for who can't see it.
func TestPageOpensClosesAndSearches(t *testing.T) {
	dir := t.TempDir()
	t.Setenv("TARNWOLD_ESTATE", filepath.Join(dir, "pl", "tarnwold.estate"))
	var out bytes.Buffer
	run := func(args ...string) {
		out.Reset()
		require.Zero(t, cli.Main(args, strings.NewReader(""), &out, &out), out.String())
	}
	run("demo", filepath.Join(dir, "pl"))
	// A name that would be a script, were it taken for one.
	run("put", "//stagedoor/productions/Scripts", `<img src=x onerror="document.title=1">.odt`, "--owner", "warden", "--yes")
	page := filepath.Join(dir, "grid.html")
	run("grid", "//stagedoor/productions", "--depth", "2", "--files", "-o", page)
	text, err := os.ReadFile(page)
	require.NoError(t, err)
	for _, outside := range []string{"src=\"", "href=", "@import", "url(", "http://", "https://"} {
		require.NotContains(t, string(text), outside, "nothing is fetched")
	}
	b := browse(t, page)
	require.Equal(t, "Who has what at and below //stagedoor/productions", b.run("document.title"))
	all := b.names()
	require.Contains(t, all, "Fittings")
	require.Contains(t, all, `<img src=x onerror="document.title=1">.odt`)

	t.Log("close one folder, and open it again")
	click := func(row string) {
		b.run(`[...document.querySelectorAll("tbody tr")].find(r => r.querySelector(".name").textContent === ` + string(asJSON(json.Marshal(row))) + `).querySelector("button.fold").click(); ""`)
	}
	click("Wardrobe")
	require.NotContains(t, b.names(), "Fittings")
	require.Contains(t, b.names(), "Wardrobe")
	require.Contains(t, b.names(), "Ledgers", "the others stay open")
	click("Wardrobe")
	require.Equal(t, all, b.names())
	b.run(`document.getElementById("close").click(); ""`)
	require.Equal(t, []string{"//stagedoor/productions"}, b.names())
	b.run(`document.getElementById("open").click(); ""`)
	require.Equal(t, all, b.names())

	t.Log("search keeps the way to what fits, and what is below it")
	search := func(words string) {
		b.run(`(() => { const f = document.getElementById("find"); f.value = ` + string(asJSON(json.Marshal(words))) + `; f.dispatchEvent(new Event("input", {bubbles: true})); return ""; })()`)
	}
	search("LEDGERS")
	require.Equal(t, []string{"//stagedoor/productions", "Box Office", "Ledgers"}, b.names())
	require.Equal(t, "1 row fits", b.run(`document.getElementById("found").textContent`))
	search("casting edit +")
	require.Contains(t, b.names(), "Contracts", "what is below a hit is shown")
	search("no such thing")
	require.Equal(t, "0 rows fit", b.run(`document.getElementById("found").textContent`))
	search("")
	require.Equal(t, all, b.names())

	t.Log("by keyboard alone")
	b.run(`document.querySelector("tbody button.fold").focus(); ""`)
	b.key("Enter")
	require.Equal(t, []string{"//stagedoor/productions"}, b.names())
	b.key("ArrowRight")
	require.Equal(t, all, b.names())
	b.key("ArrowDown")
	require.Equal(t, "close Archive", b.run(`document.activeElement.getAttribute("aria-label")`))
	b.key("ArrowLeft")
	require.NotContains(t, b.names(), "Tour 2024")

	t.Log("for a screen reader")
	var tree struct {
		Nodes []struct {
			Role, Name struct{ Value string }
		}
	}
	b.call("Accessibility.enable", map[string]any{}, nil)
	b.call("Accessibility.getFullAXTree", map[string]any{}, &tree)
	roles := map[string][]string{}
	for _, n := range tree.Nodes {
		roles[n.Role.Value] = append(roles[n.Role.Value], n.Name.Value)
	}
	require.Contains(t, roles["treegrid"], "Who has what at and below //stagedoor/productions")
	require.Contains(t, roles["searchbox"], "Search")
	require.Contains(t, roles["button"], "open Archive")
	require.Contains(t, roles["columnheader"], "board")
	require.Contains(t, roles["status"], "")

	t.Log("on paper all of it is there, closed or not")
	b.run(`document.getElementById("close").click(); ""`)
	var printed struct{ Data string }
	b.call("Page.printToPDF", map[string]any{"landscape": true}, &printed)
	pdf, err := base64.StdEncoding.DecodeString(printed.Data)
	require.NoError(t, err)
	require.True(t, bytes.HasPrefix(pdf, []byte("%PDF-")))
	b.call("Emulation.setEmulatedMedia", map[string]any{"media": "print"}, nil)
	require.Equal(t, "table-row none", b.run(`getComputedStyle([...document.querySelectorAll("tbody tr")].find(r => r.querySelector(".name").textContent === "Ledgers")).display + " " + getComputedStyle(document.querySelector(".tools")).display`))
}

// TestFindingsArePicked: a page of findings shows those of a kind, a server, a keeper, and what is
// picked stands in its address.
func TestFindingsArePicked(t *testing.T) {
	dir := t.TempDir()
	t.Setenv("TARNWOLD_ESTATE", filepath.Join(dir, "pl", "tarnwold.estate"))
	run := func(code int, args ...string) {
		var out bytes.Buffer
		require.Equal(t, code, cli.Main(args, strings.NewReader(""), &out, &out), out.String())
	}
	run(0, "demo", filepath.Join(dir, "pl"))
	run(0, "keeper", "add", "warden", "--of", "//stagedoor/productions")
	run(0, "keeper", "add", "board", "--of", "//stagedoor/productions/Board Papers", "--as", "warden")
	page := filepath.Join(dir, "findings.html")
	run(1, "findings", "-o", page)
	b := browse(t, page)
	all := b.names()
	require.Contains(t, all, "propstore:/srv/props")
	require.Equal(t, "kind server keeper", b.run(`[...document.querySelectorAll("select")].map(s => s.dataset.pick).join(" ")`))
	pick := func(by, what string) {
		b.run(`(() => { const s = document.querySelector("select[data-pick=` + by + `]"); s.selectedIndex = [...s.options].findIndex(o => o.textContent.startsWith(` + string(asJSON(json.Marshal(what))) + `)); s.dispatchEvent(new Event("change")); return ""; })()`)
	}
	pick("server", "stagedoor")
	require.NotContains(t, b.names(), "propstore:/srv/props")
	pick("keeper", "board (")
	require.Equal(t, []string{"Entries for single users", "stagedoor:/srv/playhouse/Board Papers"}, b.names(), "no heading without a row below it")
	require.Equal(t, "1 row fits", b.run(`document.getElementById("found").textContent`))
	require.Equal(t, "#server=stagedoor&keeper=board", b.run("location.hash"))
	link := b.run("location.hash")
	pick("keeper", "all")
	pick("server", "all")
	require.Equal(t, all, b.names())
	b.run(`document.getElementById("find").value = "warden"; document.getElementById("find").dispatchEvent(new Event("input")); ""`)
	pick("server", "flyloft")
	require.NotEmpty(t, b.names())
	for _, name := range b.names() {
		require.NotContains(t, name, "stagedoor")
	}
	require.Equal(t, []string{"Entries for single users", "stagedoor:/srv/playhouse/Board Papers"}, browse(t, page+link).names(), "a link shows the same")
}

func asJSON(b []byte, err error) []byte {
	if err != nil {
		panic(err)
	}
	return b
}
