//go:build unix

package cli_test

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	smb2 "github.com/cloudsoda/go-smb2"
	"github.com/stretchr/testify/require"

	"tarnwold/internal/server/smb/smbtest"
)

// TestPolicyOnTwoServers: a policy is laid on fifty places of two servers, one
// of them real, in one change; drift finds what somebody else did there, and
// lifting puts the very bytes back.
func TestPolicyOnTwoServers(t *testing.T) {
	var paths []string
	h := newTheatre(t, func(fs *smb2.Share) {
		for i := range 25 {
			paths = append(paths, fmt.Sprintf(`Scripts\act %d`, i))
			require.NoError(t, fs.Mkdir(paths[i], 0o777))
			require.NoError(t, fs.WriteFile(paths[i]+`\scene.txt`, nil, 0o644))
		}
	})
	rows := "path,kind,sddl\n,folder,O:BAG:BAD:P(A;OICI;FA;;;BA)\nScripts,folder,O:BAG:BAD:AI(A;OICIID;FA;;;BA)\n"
	var policy strings.Builder
	policy.WriteString("policy acts\nbecause each act has its readers\n")
	for i := range 25 {
		rows += fmt.Sprintf("Scripts/act %d,folder,O:BAG:BAD:AI(A;OICIID;FA;;;BA)\n", i)
		fmt.Fprintf(&policy, "at \"Scripts/act %d\"\n  sealed keep\n  allow wardrobe revise tree until 2099-03-31\n  only deny volunteers full tree\n", i)
	}
	policy.WriteString("expect\nbram can save \"Scripts/act 3/scene.txt\" through //stagedoor/productions\nnobody can full \"Scripts/act 4\" through //stagedoor/productions\n")
	met := strings.Replace(policy.String(), "nobody can full", "petra cannot read", 1)
	met = strings.Replace(met, "bram can save \"Scripts/act 3/scene.txt\" through //stagedoor/productions\n", "bram can revise \"Scripts/act 3\"\n", 1)
	met = strings.Replace(met, " through //stagedoor/productions", "", 1)
	require.NoError(t, os.WriteFile("flyloft.csv", []byte(rows), 0o600))
	require.NoError(t, os.WriteFile("wrong.policy", []byte(policy.String()), 0o600))
	require.NoError(t, os.WriteFile("acts.policy", []byte(met), 0o600))
	h.run(0, "server", "add", "flyloft", "--traits", "smb")
	require.NoError(t, os.WriteFile("shares.csv", []byte("share,folder,read_only,sddl\nprogramme,/data,no,D:(A;;FA;;;WD)\n"), 0o600))
	h.run(0, "load", "shares", "shares.csv", "--server", "flyloft", "--yes")
	h.run(0, "load", "tree", "flyloft.csv", "--at", "flyloft:/data")
	was := h.bytes(paths...)

	// What it expects isn't so: nothing is written.
	said := h.run(3, "policy", "lay", "wrong.policy", "--on", "//stagedoor/productions", "--on", "//flyloft/programme", "--yes")
	require.Contains(t, said, `wrong.policy: line 104: there is no place "scene.txt" in flyloft:/data/Scripts/act 3`)
	require.Equal(t, was, h.bytes(paths...))

	on := []string{"--on", "//stagedoor/productions", "--on", "//flyloft/programme"}
	said = h.run(0, append([]string{"policy", "lay", "acts.policy", "--yes", "--force"}, on...)...)
	require.Contains(t, said, "policy version 1, on 50 places")
	require.Contains(t, said, "This goes to the real server stagedoor: 50 descriptors.")
	require.NotEqual(t, was, h.bytes(paths...))
	require.NoError(t, h.mount("bram", "productions").WriteFile(`Scripts\act 3\scene.txt`, []byte("x"), 0o644))
	_, err := h.mount("petra", "productions").ReadDir(`Scripts\act 4`)
	require.ErrorContains(t, err, "denied")
	h.run(0, "drift", "stagedoor")
	h.run(0, "policy", "drift")

	// Somebody opens one on the server: a scan takes it in, and the policy tells of it.
	h.give(paths[7], "PAI(A;OICI;FA;;;{warden})(A;OICI;0x1200a9;;;{volunteers})")
	said = h.run(0, "scan", "stagedoor", "--yes")
	require.Contains(t, said, "it breaks policy acts, on stagedoor:")
	said = h.run(1, "policy", "drift")
	require.Contains(t, said, "act 7")
	require.Contains(t, said, "is gone")
	require.NotContains(t, said, "act 8")
	h.run(0, "undo", kept(t, h.run(0, "log", "--format", "markdown")+"\nKept as change "+lastChange(h)+"."), "--yes")
	h.run(0, "policy", "drift")
	require.Contains(t, h.run(1, "policy", "lift", "acts", "--yes"), "you act as warden, who may not change the rules of flyloft:/data/Scripts/act 0")
	h.run(0, "policy", "lift", "acts", "--yes", "--force")
	require.Equal(t, was, h.bytes(paths...))
	h.run(0, "drift", "stagedoor")
	require.Contains(t, h.run(0, "policy", "list"), "No policy is laid.")
	h.run(0, "check")
}

func lastChange(h *theatre) string {
	lines := strings.Split(h.run(0, "log", "--format", "csv"), "\n")
	return strings.SplitN(lines[1], ",", 2)[0]
}

// TestTrailOfAServer: what a real server's vfs_full_audit writes is taken in,
// and its refusals are those the estate tells of.
func TestTrailOfAServer(t *testing.T) {
	audit := "vfs objects = full_audit acl_xattr\nfull_audit:prefix = %u|%I|%S\nfull_audit:success = create_file unlinkat renameat mkdirat\n" +
		"full_audit:failure = create_file unlinkat renameat mkdirat connect\nfull_audit:syslog = false\n"
	h := newTheatreOf(t, audit, nil)
	h.run(0, "grant", "wardrobe", "edit", "//stagedoor/productions/Wardrobe", "--yes")
	bram, petra := h.mount("bram", "productions"), h.mount("petra", "productions")
	_, err := bram.ReadFile(`Wardrobe\hire list.csv`)
	require.NoError(t, err)
	require.NoError(t, bram.WriteFile(`Wardrobe\neu ä.txt`, []byte("x"), 0o644))
	require.NoError(t, bram.Rename(`Wardrobe\neu ä.txt`, `Wardrobe\alt.txt`))
	require.NoError(t, bram.Remove(`Wardrobe\alt.txt`))
	for range 3 {
		_, err = bram.ReadFile(`Scripts\prompt book.odt`)
		require.ErrorContains(t, err, "denied")
	}
	require.ErrorContains(t, petra.WriteFile(`Wardrobe\hire list.csv`, []byte("x"), 0o644), "denied")
	require.ErrorContains(t, petra.Mkdir(`Scripts\new`, 0o777), "denied")
	_, err = petra.ReadFile(`Scripts\not there`)
	require.Error(t, err)

	log := filepath.Join(h.s.Dir, "log")
	var said string
	for range 50 { // the server writes it when it likes
		said = h.run(0, "trail", "load", log, "--server", "stagedoor", "--kind", "smb")
		if strings.Contains(h.run(0, "trail", "petra", "--format", "csv"), "not there") {
			break
		}
		time.Sleep(100 * time.Millisecond)
	}
	require.NotContains(t, said, " 0 tries read")
	again := h.run(0, "trail", "load", log, "--server", "stagedoor", "--kind", "smb")
	require.Contains(t, again, " 0 new.")
	said = h.run(0, "trail", "bram", "--format", "csv")
	require.Regexp(t, `(?m)^bram,read,//stagedoor/productions/Scripts/prompt book.odt,refused,3,.*,"?read-data: no entry grants it`, said)
	require.Regexp(t, `(?m)^bram,read,//stagedoor/productions/Wardrobe/hire list.csv,granted,`, said)
	require.Regexp(t, `(?m)^bram,rename,//stagedoor/productions/Wardrobe/neu ä.txt,granted,1,`, said)
	require.Regexp(t, `(?m)^bram,delete,//stagedoor/productions/Wardrobe/alt.txt,granted,`, said)
	said = h.run(0, "trail", "petra", "--refused", "--format", "csv")
	require.Regexp(t, `(?m)^petra,(save|create),//stagedoor/productions/Wardrobe/hire list.csv,refused,`, said)
	require.Regexp(t, `(?m)^petra,make-folder,//stagedoor/productions/Scripts/new,refused,`, said)
	require.NotRegexp(t, `not there,refused`, said)
	require.Contains(t, h.run(0, "trail", "bram", "--refused"), "bram was refused 3 times, and asked for nothing: tarnwold request bram read '//stagedoor/productions/Scripts/prompt book.odt' --why TEXT")
	said = h.run(0, "unused", "//stagedoor/productions/Wardrobe", "--since", time.Now().Format(time.DateOnly))
	require.NotContains(t, said, "bram ")
	require.Contains(t, said, "ines ")
	require.Contains(t, h.run(0, "watch", "volunteers", "read", "//stagedoor/productions/Scripts", "--dry-run"), "stagedoor keeps audit entries and writes nothing down by them")
}

// TestANightOnAServer: a night scans the linked server, and says so where it
// can't.
func TestANightOnAServer(t *testing.T) {
	h := newTheatre(t, nil)
	said := h.run(1, "nightly", "--to", "nights")
	require.Contains(t, said, "stagedoor: ")
	h.give(`Scripts`, "PAI(A;OICI;FA;;;WD)")
	h.run(1, "nightly", "--to", "nights")
	pages, err := filepath.Glob("nights/night-*.html")
	require.NoError(t, err)
	require.Len(t, pages, 1)
	page, err := os.ReadFile(pages[0])
	require.NoError(t, err)
	require.Contains(t, string(page), "Open to everyone")
	require.Contains(t, string(page), "Scripts")
	t.Setenv("TARNWOLD_PASSWORD", "not that")
	said = h.run(3, "nightly", "--to", "nights")
	require.Contains(t, said, "1 could not be done")
	require.Contains(t, said, "one thing could not be done; the page says which")
	t.Setenv("TARNWOLD_PASSWORD", "")
	require.NoError(t, os.WriteFile("secret", []byte(smbtest.Password("warden")+"\n"), 0o600))
	h.run(1, "nightly", "--to", "nights", "--password-file", "stagedoor=secret")
}
