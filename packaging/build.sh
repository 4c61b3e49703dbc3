#!/bin/sh
# Builds what a release has, in dist: packages for two kinds of systems on two kinds of
# machines, archives, what is in each as SPDX, and checksums. VERSION names the release.
set -eu
GO=${GO:-go}
VERSION=${VERSION:-0.0.0}
AT=$(git log -1 --format=%cI 2>/dev/null || date -u +%Y-%m-%dT%H:%M:%SZ)
DAY=${AT%%T*}
rm -rf dist
mkdir -p dist/work
flags="-s -w -X tarnwold/internal/cli/run.Version=$VERSION"
for t in linux/amd64 linux/arm64 windows/amd64; do
	os=${t%/*} arch=${t#*/} ext=
	[ "$os" = windows ] && ext=.exe
	echo "building $t"
	CGO_ENABLED=0 GOOS=$os GOARCH=$arch $GO build -trimpath -ldflags "$flags" -o "dist/work/tarnwold-$os-$arch$ext" ./cmd/tarnwold
	$GO run ./packaging/bill "dist/work/tarnwold-$os-$arch$ext" "$VERSION" "$AT" >"dist/tarnwold-$VERSION-$os-$arch.spdx.json"
done
$GO run ./packaging/pages dist/work/pages docs/formats.md "$DAY"
for arch in amd64 arm64; do
	for kind in deb rpm; do
		ARCH=$arch VERSION=$VERSION SOURCE_DATE_EPOCH=$(date -d "$AT" +%s) $GO tool nfpm package -f packaging/nfpm.yaml -p $kind -t dist
	done
	top=tarnwold-$VERSION-linux-$arch
	mkdir -p "dist/work/$top"
	cp "dist/work/tarnwold-linux-$arch" "dist/work/$top/tarnwold"
	cp -r dist/work/pages/man1 dist/work/pages/man5 dist/work/pages/completion packaging/system packaging/etc README.md docs "dist/work/$top/"
	tar --sort=name --owner=0 --group=0 --numeric-owner --mtime="$AT" -C dist/work -czf "dist/$top.tar.gz" "$top"
done
top=tarnwold-$VERSION-windows-amd64
mkdir -p "dist/work/$top"
cp dist/work/tarnwold-windows-amd64.exe "dist/work/$top/tarnwold.exe"
cp -r README.md docs "dist/work/$top/"
$GO run ./packaging/zipped "dist/$top.zip" dist/work "$top"
rm -rf dist/work
(cd dist && sha256sum -- * >SHA256SUMS)
ls -l dist
