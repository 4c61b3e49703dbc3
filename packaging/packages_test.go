//go:build linux

// Package packaging has what a release is made of; its test installs a package.
package packaging

import (
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"tarnwold/internal/proptest"
)

// TestPackages builds what a release has, and installs it by apt on a root of its own that
// lies over this system: used, upgraded with an estate in place, removed, and purged.
func TestPackages(t *testing.T) {
	proptest.Long(t)
	for _, tool := range []string{"apt-get", "dpkg-deb", "unshare", "git", "tar"} {
		if _, err := exec.LookPath(tool); err != nil || os.Geteuid() != 0 || runtime.GOARCH != "amd64" {
			t.Skip("*** SKIPPED: installing packages needs Debian on amd64, as root ***")
		}
	}
	if out, err := exec.Command("go", "tool", "nfpm", "--version").CombinedOutput(); err != nil {
		t.Skipf("*** SKIPPED: what makes packages can't be had here: %s ***", out)
	}
	probe := `mount -t tmpfs none "$0" && mkdir "$0/up" "$0/work" "$0/root" && mount -t overlay overlay -o "lowerdir=/,upperdir=$0/up,workdir=$0/work" "$0/root"`
	if out, err := exec.Command("unshare", "--mount", "sh", "-c", probe, t.TempDir()).CombinedOutput(); err != nil {
		t.Skipf("*** SKIPPED: a root over this system can't be mounted here: %s ***", out)
	}
	tree, err := filepath.Abs("..")
	require.NoError(t, err)
	top := t.TempDir() // what it builds is its own
	copied, err := exec.Command("sh", "-c", `cd "$0" && { git ls-files -z 2>/dev/null || find . -type f -print0; } | tar --null --ignore-failed-read -T - -cf - | tar -C "$1" -xf -`, tree, top).CombinedOutput()
	require.NoError(t, err, "%s", copied)
	build := func(version string) string {
		c := exec.Command("packaging/build.sh")
		c.Dir, c.Env = top, append(os.Environ(), "VERSION="+version)
		out, err := c.CombinedOutput()
		require.NoError(t, err, "%s", out)
		kept := filepath.Join(t.TempDir(), version)
		require.NoError(t, os.Rename(filepath.Join(top, "dist"), kept))
		return kept
	}
	first, second := build("0.9.0"), build("0.9.1")
	var names []string
	list, err := os.ReadDir(first)
	require.NoError(t, err)
	for _, f := range list {
		names = append(names, f.Name())
	}
	require.ElementsMatch(t, []string{"SHA256SUMS", "tarnwold-0.9.0-1.aarch64.rpm", "tarnwold-0.9.0-1.x86_64.rpm", "tarnwold-0.9.0-linux-amd64.spdx.json", "tarnwold-0.9.0-linux-amd64.tar.gz",
		"tarnwold-0.9.0-linux-arm64.spdx.json", "tarnwold-0.9.0-linux-arm64.tar.gz", "tarnwold-0.9.0-windows-amd64.spdx.json", "tarnwold-0.9.0-windows-amd64.zip", "tarnwold_0.9.0_amd64.deb", "tarnwold_0.9.0_arm64.deb"}, names)
	sums, err := os.ReadFile(filepath.Join(first, "SHA256SUMS"))
	require.NoError(t, err)
	for line := range strings.Lines(string(sums)) {
		want, name, _ := strings.Cut(strings.TrimSpace(line), "  ")
		body, err := os.ReadFile(filepath.Join(first, name))
		require.NoError(t, err)
		is := sha256.Sum256(body)
		require.Equal(t, want, hex.EncodeToString(is[:]), name)
	}
	text, err := os.ReadFile(filepath.Join(first, "tarnwold-0.9.0-linux-amd64.spdx.json"))
	require.NoError(t, err)
	var bill struct {
		Packages []struct{ Name, VersionInfo string }
	}
	require.NoError(t, json.Unmarshal(text, &bill))
	met := map[string]string{}
	for _, p := range bill.Packages {
		met[p.Name] = p.VersionInfo
	}
	require.Equal(t, "0.9.0", met["tarnwold"])
	require.NotEmpty(t, met["github.com/spf13/cobra"])
	require.NotContains(t, met, "github.com/goreleaser/nfpm/v2", "what builds packages is no part of the program")

	c := exec.Command("unshare", "--mount", "sh", "-ec", lifecycle, first+"/tarnwold_0.9.0_amd64.deb", second+"/tarnwold_0.9.1_amd64.deb", t.TempDir())
	out, err := c.CombinedOutput()
	require.NoError(t, err, "%s", out)
	said := string(out)
	for _, want := range []string{"tarnwold 0.9.0, go", "700 tarnwold", "nightly ended with 0 or 1", "units are good", "tarnwold 0.9.1, go", "changed by hand", "upgraded: whole: nothing is wrong",
		"removed: tarnwold.estate", "removed: nightly.except", "purged: nothing left", "the page: TARNWOLD-POLICIES(5)"} {
		require.Contains(t, said, want)
	}
}

// lifecycle installs two packages one after the other in a root over this one, which is in
// memory and gone with the namespace of mounts.
const lifecycle = `
mount -t tmpfs none "$2"
mkdir "$2/up" "$2/work" "$2/root"
mount -t overlay overlay -o "lowerdir=/,upperdir=$2/up,workdir=$2/work" "$2/root"
mkdir -p "$2/root/packages"
cp "$0" "$2/root/packages/first.deb"
cp "$1" "$2/root/packages/second.deb"
mount -t proc none "$2/root/proc"
mount --bind /dev "$2/root/dev"
chroot "$2/root" sh -ec '
export DEBIAN_FRONTEND=noninteractive
as() { runuser -u tarnwold -- env TARNWOLD_ESTATE=/var/lib/tarnwold/tarnwold.estate /usr/bin/tarnwold "$@"; }
apt-get install -y -q /packages/first.deb
/usr/bin/tarnwold version
stat -c "%a %U" /var/lib/tarnwold
as init
line=$(sed -n "s/^ExecStart=.usr.bin.tarnwold //p" /usr/lib/systemd/system/tarnwold-nightly.service)
code=0; as $line || code=$?
[ $code -le 1 ] && echo "nightly ended with 0 or 1"
systemd-analyze verify /usr/lib/systemd/system/tarnwold-nightly.service /usr/lib/systemd/system/tarnwold-nightly.timer && echo "units are good"
echo "# changed by hand" >>/etc/tarnwold/nightly.except
apt-get install -y -q /packages/second.deb
/usr/bin/tarnwold version
tail -n 1 /etc/tarnwold/nightly.except
echo "upgraded: $(as check)" | sed "s/ [^ ]* is whole/ whole/"
echo "the page: $(man 5 tarnwold-policies 2>/dev/null | head -n 1)"
apt-get remove -y -q tarnwold
for d in /var/lib/tarnwold /etc/tarnwold; do for f in $(ls $d); do echo "removed: $f"; done; done
[ ! -e /usr/bin/tarnwold ]
apt-get purge -y -q tarnwold
[ ! -e /var/lib/tarnwold ] && [ ! -e /etc/tarnwold ] && echo "purged: nothing left"
'
`
