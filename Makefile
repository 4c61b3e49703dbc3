# Everything a person or CI does with the tree. Needs Go alone.
GO ?= go
BIN := bin/tarnwold
LDFLAGS := -s -w
TARGETS := linux/amd64 linux/arm64 windows/amd64 darwin/arm64

.PHONY: build build-all packages test test-long soak tools lint bench fuzz demo demo-live big

build:
	CGO_ENABLED=0 $(GO) build -trimpath -ldflags '$(LDFLAGS)' -o $(BIN) ./cmd/tarnwold

build-all:
	@for t in $(TARGETS); do \
		os=$${t%/*}; arch=$${t#*/}; ext=; [ $$os = windows ] && ext=.exe; \
		echo "building $$t"; \
		CGO_ENABLED=0 GOOS=$$os GOARCH=$$arch $(GO) build -trimpath -ldflags '$(LDFLAGS)' \
			-o dist/tarnwold-$$os-$$arch$$ext ./cmd/tarnwold || exit 1; \
	done

# Packages (.deb, .rpm), archives, what is in each (SPDX) and checksums, in dist.
# VERSION=1.2.3 names the release.
packages:
	GO=$(GO) packaging/build.sh

lint:
	$(GO) vet ./...
	@out=$$(gofmt -l .); if [ -n "$$out" ]; then echo "gofmt would change:"; echo "$$out"; exit 1; fi
	$(GO) tool staticcheck ./...

# Pages are opened in a real browser, servers are real ones: what they need is
# installed where that can be done (Debian, as root), and passed over loudly elsewhere.
SERVERS := samba samba-vfs-modules samba-common-bin winbind libnss-wrapper samba-ad-dc samba-ad-provision iproute2 krb5-user xfsprogs slapd nslcd libnss-ldapd strace
tools:
	@command -v chromium >/dev/null || { [ "$$(id -u)" = 0 ] && command -v apt-get >/dev/null && \
		{ apt-get update -qq; apt-get install -qq -y --no-install-recommends chromium; }; } >/dev/null 2>&1 || true
	@command -v smbd >/dev/null && command -v samba-tool >/dev/null && command -v ip >/dev/null && command -v kinit >/dev/null && command -v wbinfo >/dev/null && command -v mkfs.xfs >/dev/null && [ -x /usr/sbin/slapd ] && command -v nslcd >/dev/null && command -v strace >/dev/null && \
		[ -n "$$(ls /usr/lib/*/samba/vfs/acl_xattr.so /usr/lib/*/libnss_wrapper.so /usr/share/samba/setup/provision.ldif 2>/dev/null | sed -n 3p)" ] || \
		{ [ "$$(id -u)" = 0 ] && command -v apt-get >/dev/null && \
		{ apt-get update -qq; DEBIAN_FRONTEND=noninteractive apt-get install -qq -y --no-install-recommends $(SERVERS); }; } >/dev/null 2>&1 || true
	@command -v smbd >/dev/null && [ "$$(id -u)" = 0 ] || echo "*** SKIPPED: real SMB servers, for there is no smbd here, or this is not root ***"
	@command -v samba-tool >/dev/null && [ "$$(id -u)" = 0 ] || echo "*** SKIPPED: a real domain, for there is no samba-tool here, or this is not root ***"
	@[ -x /usr/sbin/slapd ] || echo "*** SKIPPED: a real directory, for there is no slapd here ***"
	@{ [ "$$(id -u)" = 0 ] && ip netns add tarnwold-probe && ip netns del tarnwold-probe; } 2>/dev/null || \
		echo "*** SKIPPED: a real domain, for network namespaces can't be made here ***"
	@command -v strace >/dev/null || echo "*** SKIPPED: kills in single calls, for there is no strace here ***"
	@command -v chromium >/dev/null || echo "*** SKIPPED: pages in a browser, for there is no chromium here ***"

# The short run: it leaves what takes long to test-long, and says what. What go test
# says is summed up by testlog, which alone says whether it failed.
test: lint tools
	@TARNWOLD_SHORT=1 $(GO) test -json -p 4 -timeout 10m ./... 2>&1 | $(GO) run ./internal/testlog

# All of it: what test leaves, more estates, on another seed (SEED=N takes yours), and the
# race detector, which needs a C compiler. acltext asks a kernel by thousands of processes
# and shares nothing between goroutines.
test-long: tools
	@$(GO) test -json -timeout 25m $$($(GO) list ./... | grep -v internal/plan$$) 2>&1 | $(GO) run ./internal/testlog
	@seed=$${SEED:-20261129}; echo "seed $$seed"; \
		$(GO) test -count=1 -timeout 60m ./internal/plan -rapid.checks=40 -rapid.seed=$$seed
	@command -v gcc >/dev/null || { [ "$$(id -u)" = 0 ] && command -v apt-get >/dev/null && \
		apt-get install -qq -y gcc libc6-dev; } || true
	@if command -v gcc >/dev/null; then \
		echo "the race detector, on core and plan"; CGO_ENABLED=1 $(GO) test -race -timeout 25m $$($(GO) list ./core/... | grep -v acltext$$) && \
		CGO_ENABLED=1 $(GO) test -race -timeout 25m ./internal/plan -rapid.checks=4; \
	else \
		echo "*** SKIPPED: the race detector, for there is no C compiler here (gcc) ***"; \
	fi

# Hours of it: two administrators over a relay, faults on the way at every so many
# bytes, kills, keepers on ever new estates. TARNWOLD_EVERY_BYTE=1 takes each byte.
soak: tools
	TARNWOLD_LONG=1 TARNWOLD_EVERY_BYTE=$${TARNWOLD_EVERY_BYTE:-50} $(GO) test -count=1 -v -timeout 24h ./internal/cli \
		-run 'TestTwoWriters|TestFaultsOnTheWay|TestBrokenOffOnTheServer|TestKill|TestNoForged'
	$(GO) test -count=1 -timeout 24h ./internal/plan -run 'TestOnlyKeepers|TestFindingsAreSo' -rapid.checks=2000 -rapid.seed=$$(date +%s)
	$(GO) test -count=1 -timeout 24h ./core/posix -run TestPassing -rapid.checks=200000 -rapid.seed=$$(date +%s)

bench:
	$(GO) test -run '^$$' -bench . -benchmem -timeout 30m ./...

# Each parser and the core under random input, half a minute each.
fuzz:
	@for p in $$($(GO) list ./...); do \
		for f in $$($(GO) test -list '^Fuzz' $$p | grep '^Fuzz'); do \
			echo "$$p $$f"; $(GO) test -run '^$$' -fuzz "^$$f$$" -fuzztime 30s $$p || exit 1; \
		done; \
	done

demo:
	$(GO) run ./cmd/tarnwold demo

# The tour on a real SMB server, which it starts and stops: Debian, root.
demo-live:
	TARNWOLD_DEMO_LIVE=1 $(GO) test -count=1 -v -run '^TestThePlayhouseLive$$' ./internal/cli

# An estate of any size for measuring: big/tarnwold.estate, of ITEMS folders and files.
ITEMS ?= 1000000
big: build
	rm -rf big && $(GO) run ./internal/playhouse/big -items $(ITEMS) -dir big
	cd big && ../$(BIN) init && ../$(BIN) load accounts accounts.csv members.csv && \
		../$(BIN) server add box --traits smb-domain --administrator user0 && \
		../$(BIN) load shares shares.csv --server box && ../$(BIN) load tree tree.csv --at box:/srv/all
