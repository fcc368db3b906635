# make demo   the whole way on made-up data
# make test   all tests
# make build  the binary, at bin/stockade
#
# What a fresh Debian machine with Go and Node.js lacks is installed by `make tools`,
# which the two commands above call.

VERSION := $(shell git describe --tags --always --dirty 2>/dev/null || echo unknown)
STAMP   := -X stockade/internal/cli.Version=0.1.0-$(VERSION)
CONSOLE := internal/service/dist/index.html
SUDO    := $(shell [ "$$(id -u)" = 0 ] || echo sudo)
FUZZTIME ?= 20s
export CGO_ENABLED = 0

.PHONY: build demo test lint race tools console documents bench fuzz mutate shots clean

build: $(CONSOLE)
	go build -trimpath -ldflags '-s -w $(STAMP)' -o bin/stockade ./cmd/stockade

console: $(CONSOLE)

# The browser's part, embedded in the binary.
$(CONSOLE): $(shell find console -path console/node_modules -prune -o -type f ! -name api.d.ts -print) docs/openapi.json
	rm -rf internal/service/dist/assets
	cd console && npm ci --no-fund --no-audit --loglevel=error && npm run --silent build
	touch $(CONSOLE)

# On a terminal the demonstration stays up with its console; elsewhere it ends after the run.
demo: build
	@if [ -t 1 ] && [ -z "$(ONCE)" ]; then bin/stockade demo; else bin/stockade demo --once; fi

# What runs under the race detector with all of its tests is not run again without; what
# takes longest and says most begins first. Much of it waits (for browsers, clients, disks), so three packages run
# at a time on two cores.
RACED := core/pool core/fetch core/journal internal/store internal/search
OTHERS = $(filter-out $(RACED:%=stockade/%) stockade/internal/tidy stockade/e2e,$(shell go list ./...))

test: tools build lint
	@[ -n "$(OTHERS)" ] || { echo "go list names no packages"; exit 1; }
	$(MAKE) --no-print-directory race
	go test -count=1 -timeout 30m -p 3 -parallel 4 stockade/e2e $(OTHERS)

# How the code is written: vet, staticcheck, what nothing reaches; gofmt and the length of lines are a
# test of their own.
lint: $(CONSOLE)
	go vet ./...
	go tool staticcheck ./...
	@dead=$$(go tool deadcode -test ./...); [ -z "$$dead" ] || { echo "$$dead"; exit 1; }
	go test -count=1 ./internal/tidy
	cd console && { [ -d node_modules ] || npm ci --no-fund --no-audit --loglevel=error; } && npm run --silent lint

# What runs side by side, under the race detector (which needs a C compiler).
race: export CGO_ENABLED = 1
race: tools
	go test -race -count=1 -timeout 10m $(RACED:%=./%)
	go test -race -count=1 -timeout 10m -run 'SideBySide|Search' ./core/solve
	go test -race -count=1 -timeout 10m -run 'AtOnce' ./e2e

# Chromium drives the console in tests, the package clients read what is served,
# and a C compiler is what the race detector needs.
tools:
	@missing=""; for pair in chromium:chromium xz:xz-utils gpgv:gpgv gpg:gnupg unshare:util-linux dpkg-query:dpkg ip:iproute2 dnf:dnf zypper:zypper rpm:rpm rpmbuild:rpm \
	    sq:sq sqv:sqv pacman:pacman-package-manager makepkg:makepkg vercmp:makepkg bsdtar:libarchive-tools fakeroot:fakeroot zstd:zstd gcc:gcc python3:python3; do \
	  command -v $${pair%%:*} >/dev/null || missing="$$missing $${pair##*:}"; done; \
	[ -e /usr/include/stdlib.h ] || missing="$$missing libc6-dev"; \
	if [ -n "$$missing" ]; then echo "installing$$missing"; \
	  $(SUDO) apt-get -o DPkg::Lock::Timeout=600 update -qq && $(SUDO) env DEBIAN_FRONTEND=noninteractive apt-get -o DPkg::Lock::Timeout=600 install -y -qq --no-install-recommends $$missing >/dev/null; fi

# The documents in docs/ that are generated from the program.
documents:
	go test ./internal/api ./internal/cli -run GeneratedDocuments -update

bench:
	go test -run '^$$' -bench . -benchtime 3x ./bench

fuzz:
	@set -e; for p in $$(go list ./core/...); do for f in $$(go test -list '^Fuzz' $$p | grep '^Fuzz' || true); do \
	  echo "$$p $$f"; go test -run '^$$' -fuzz "^$$f$$" -fuzztime $(FUZZTIME) -fuzzminimizetime 20x $$p; done; done

# What of small changes to the code the tests notice: docs/testing.md.
MUTATE ?= ./core/trust ./core/journal ./core/pool ./core/fetch
mutate: $(CONSOLE)
	go run ./internal/mutate $(MUTATEFLAGS) $(MUTATE)

# Pictures of the console, and of the terminal, into docs/screenshots.
shots: tools build
	SHOTS=$(CURDIR)/docs/screenshots go test -count=1 -run 'Console' ./e2e

clean:
	rm -rf bin console/node_modules console/dist internal/service/dist/assets internal/service/dist/index.html internal/service/dist/icon.svg demo-data
