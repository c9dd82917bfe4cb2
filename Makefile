# The two commands of the README are: make demo, make test.
SHELL := /bin/bash
VERSION := $(shell git describe --tags --always --dirty 2>/dev/null || echo dev)
LDFLAGS := -X entelon/capture.Version=$(VERSION)
ROOT := $(if $(filter 0,$(shell id -u)),,sudo)
PG := $(firstword $(wildcard /usr/lib/postgresql/*/bin/postgres))
CHROMIUM := $(wildcard /usr/bin/chromium)
WEB := $(shell find web -path web/node_modules -prune -o -path web/dist -prune -o -type f ! -name openapi.json ! -name schema.ts -print)
EMBEDDED := exact/plugin/exact.so capture/launch/launcher_amd64 $(wildcard linux/bpf/*.o) codec/verdict/comparison.html codec/report/report.html
GO := $(EMBEDDED) $(shell find . -name '*.go' -not -path './web/node_modules/*')

.PHONY: accept realprograms race check truth-mutants generate account faults load size build demo test lint bench shots remake postgresql chromium compilers truth clean

build: bin/entelon

# The front end is built from types that are made from the server's own
# description, so a first binary without it comes before.
web/node_modules/.stamp: web/package.json web/package-lock.json web/.npmrc
	cd web && npm ci --no-progress
	touch $@

web/openapi.json: $(GO) go.mod go.sum
	mkdir -p web/dist && touch web/dist/.keep
	go run ./cmd/entelon api > $@.new && mv $@.new $@

web/dist/app/index.html: web/node_modules/.stamp web/openapi.json $(WEB)
	cd web && npm run --silent types && npm run --silent check && npm run --silent build

bin/entelon: web/dist/app/index.html $(GO) go.mod go.sum
	CGO_ENABLED=0 go build -ldflags '$(LDFLAGS)' -o $@ ./cmd/entelon

bin/engraved-3.4.0: $(wildcard demo/engraved/*.go demo/engraved/*/*.go)
	go build -trimpath -buildvcs=false -o $@ ./demo/engraved

bin/engraved-3.5.0: $(wildcard demo/engraved/*.go demo/engraved/*/*.go)
	go build -trimpath -buildvcs=false -tags v350 -o $@ ./demo/engraved

# What comes from Debian, where it is missing.
postgresql:
ifeq ($(PG),)
	$(ROOT) apt-get update -q
	$(ROOT) env DEBIAN_FRONTEND=noninteractive apt-get install -qy --no-install-recommends postgresql
endif

chromium:
ifeq ($(CHROMIUM),)
	$(ROOT) apt-get update -q
	$(ROOT) env DEBIAN_FRONTEND=noninteractive apt-get install -qy --no-install-recommends chromium
endif

# Compilers of the programs that the tests and truth/ sample and of those that run in
# the kernel, Debian's server of debug files, which one test talks to, and what makes
# networks to be broken.
compilers:
	@missing=; for p in cc:gcc g++:g++ rustc:rustc objcopy:binutils debuginfod:debuginfod ip:iproute2 qemu-x86_64:qemu-user aarch64-linux-gnu-gcc:gcc-aarch64-linux-gnu aarch64-linux-gnu-g++:g++-aarch64-linux-gnu clang-14:clang-14 llvm-strip-14:llvm-14; do \
		command -v $${p%%:*} > /dev/null || missing="$$missing $${p##*:}"; done; \
	test -e /usr/include/bpf/bpf_helpers.h || missing="$$missing libbpf-dev"; \
	test -z "$$missing" || { $(ROOT) apt-get update -q && $(ROOT) env DEBIAN_FRONTEND=noninteractive apt-get install -qy --no-install-recommends $$missing libc6-dev libc6-dev-arm64-cross; }

# As root, the demo's server runs as a user of its own that may do nothing else.
account:
	@test "$$(id -u)" != 0 || id -u entelon > /dev/null 2>&1 || useradd --system --no-create-home --shell /usr/sbin/nologin entelon

demo: postgresql account build bin/engraved-3.5.0
	@exec bin/entelon serve $(if $(filter 0,$(shell id -u)),--user entelon) --log-level warn --load demo/takes --source demo --service bin/engraved-3.5.0 --service=--drive --service=--workers --service=1 --link

# One package after the other: many of the tests measure.
test: postgresql chromium compilers build bin/engraved-3.4.0 bin/engraved-3.5.0
	bash -o pipefail -c 'go test -json -count=1 -timeout 30m -p 1 ./... | go run ./skips'

# What is made from the program's own tables, and the programs for the kernel.
generate: compilers
	go generate ./linux/bpf ./capture/launch ./exact
	go test -count=1 -run TestMeasuresAreDocumented ./cmd/entelon -write-docs
	go test -count=1 -run TestMessages ./rooms -write-docs

lint: web/node_modules/.stamp web/openapi.json
	@test -z "$$(gofmt -l $$(git ls-files '*.go'))" || { gofmt -l $$(git ls-files '*.go'); exit 1; }
	go vet ./...
	cd web && npm run --silent types && npm run --silent check && npm run --silent lint

# Races in what runs goroutines and is tested in a minute; make check has all of it.
race: postgresql compilers build
	go test -race -count=1 -timeout 30m -p 1 ./capture/rings ./capture/pairing ./capture/programs ./resolve/... ./collector/... ./receive ./server/...

# What static analysis finds, known holes of what this is built from (where the list of
# them can be had), races, and each fuzz target for a minute.
FUZZ ?= 60s
RACED = ./capture/... ./core/... ./linux/... ./resolve/... ./server/... ./store/... ./symbol/... ./collector/...
check: postgresql compilers build
	go run honnef.co/go/tools/cmd/staticcheck@v0.8.2 ./...
	go run golang.org/x/vuln/cmd/govulncheck@v1.9.0 ./... > /tmp/entelon-holes.log 2>&1 || { \
		if grep -q '^exit status 3' /tmp/entelon-holes.log; then cat /tmp/entelon-holes.log; exit 1; fi; \
		echo "known holes: their list cannot be had here: $$(tail -2 /tmp/entelon-holes.log | head -1)"; }
	go test -race -count=1 -timeout 30m -p 1 $(RACED)
	@set -e; for p in $$(grep -rl '^func Fuzz' --include='*_test.go' . | xargs -n1 dirname | sort -u); do \
		for f in $$(grep -ho '^func Fuzz[A-Za-z0-9_]*' $$p/*_test.go | cut -d' ' -f2); do \
			echo "$$p $$f"; go test -run XXX -fuzz "^$$f\$$" -fuzztime $(FUZZ) $$p > /tmp/entelon-fuzz.log || { cat /tmp/entelon-fuzz.log; exit 1; }; \
		done; done

# What Entelon's own loops may cost is kept in guard/testdata; this accepts what they cost now.
accept: compilers
	go test -count=1 ./guard -accept

bench: build compilers
	go run ./bench

realprograms:
	packages="$$(go test -count=1 -run 'TestReal$$' ./truth -packages | sed -n 's/^package: //p')"; \
	missing=""; for p in $$packages; do dpkg -s $$p >/dev/null 2>&1 || missing="$$missing $$p"; done; \
	test -z "$$missing" || { $(ROOT) apt-get update -q && $(ROOT) env DEBIAN_FRONTEND=noninteractive apt-get install -qy --no-install-recommends $$missing; }

truth: compilers realprograms
	go test -count=1 -timeout 60m -v -run TestFull ./truth -write docs/truth.md
	go test -count=1 -timeout 60m -v -run 'TestCalibration|TestYardstick|TestBlocks|TestShifts|TestSequential|TestServiceUnderLoads' ./truth -comparing $(CURDIR)/docs/comparing.md
	go test -count=1 -timeout 90m -v -run 'TestReal$$' ./truth -real $(CURDIR)/docs/truth.md

truth-mutants: compilers
	go test -count=1 -timeout 60m -v -run TestMutants ./truth -mutants

shots: build postgresql chromium
	go test -count=1 -run 'TestShots|TestAttachAndTakeAgain' ./e2e -shots $(CURDIR)/docs/screenshots

size: build postgresql chromium
	go test -count=1 -run TestALargeTake ./e2e -size $(CURDIR)/docs/benchmarks.md

load: build postgresql
	go test -count=1 -timeout 60m -v -run TestManyAtOnce ./cmd/entelon -load $(CURDIR)/docs/benchmarks.md

faults: build postgresql compilers
	go test -count=1 -timeout 90m -v -run TestCampaign ./faults -kills 1000 -write $(CURDIR)/docs/faults.md

remake: build
	go run ./demo/remake

clean:
	rm -rf bin web/dist/app web/node_modules web/openapi.json web/src/api/schema.ts
