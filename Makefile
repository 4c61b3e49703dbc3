# Everything a person or CI does with the tree. Needs Go alone.
GO ?= go
BIN := bin/tarnwold
LDFLAGS := -s -w
TARGETS := linux/amd64 linux/arm64 windows/amd64 darwin/arm64

.PHONY: build build-all test lint bench fuzz demo

build:
	CGO_ENABLED=0 $(GO) build -trimpath -ldflags '$(LDFLAGS)' -o $(BIN) ./cmd/tarnwold

build-all:
	@for t in $(TARGETS); do \
		os=$${t%/*}; arch=$${t#*/}; ext=; [ $$os = windows ] && ext=.exe; \
		echo "building $$t"; \
		CGO_ENABLED=0 GOOS=$$os GOARCH=$$arch $(GO) build -trimpath -ldflags '$(LDFLAGS)' \
			-o dist/tarnwold-$$os-$$arch$$ext ./cmd/tarnwold || exit 1; \
	done

lint:
	$(GO) vet ./...
	@out=$$(gofmt -l .); if [ -n "$$out" ]; then echo "gofmt would change:"; echo "$$out"; exit 1; fi
	$(GO) tool staticcheck ./...

test: lint
	$(GO) test -timeout 25m ./...

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
