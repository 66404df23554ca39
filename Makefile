# Two commands on a machine with Go and Node do everything: make demo, make test.
SHELL := /bin/bash
# The same for what is built and what is tested, or all would be compiled twice.
export GOFLAGS := -trimpath
.DELETE_ON_ERROR:

web_sources := $(shell find web/src web/public -type f ! -name schema.d.ts) web/index.html web/package.json web/package-lock.json web/vite.config.ts web/tsconfig.json
go_sources := $(shell find cmd internal -name '*.go' -o -name '*.sql' -o -name '*.yaml') go.mod go.sum

version := $(shell git describe --tags --always --dirty 2>/dev/null || echo unknown)

.PHONY: help demo test build bench shapes fuzz deb docs screenshots clean

# The first target, so that "make" alone builds.
build: bin/mullein ## bin/mullein, the console inside

help: ## this list
	@awk -F ':.*## ' '/^[a-z]+:.*## / {printf "make %-12s %s\n", $$1, $$2}' $(MAKEFILE_LIST)

demo: build ## a service with sample suppliers at work
	@setup/install.sh postgresql openssh-server
	@bin/mullein demo

bin/mullein: $(go_sources) internal/server/console/index.html
	go build -ldflags "-X mullein/internal/server.Commit=$(version)" -o $@ ./cmd/mullein

web/node_modules: web/package.json web/package-lock.json web/.npmrc
	cd web && npm ci --no-audit --no-fund --loglevel=error
	@touch $@

internal/server/console/index.html: $(web_sources) | web/node_modules
	cd web && npm run --silent api && npm run --silent build

# core has no goroutines of its own, and e2e drives what the others test. What tests of
# kills do happens in other processes, which the race detector does not see; tests of great
# numbers do the same again and again. It would find nothing more there, and take minutes.
# Most tests wait for something, so more of them run at a time than there are processors.
# The libraries of object stores and of brokers are large, and compiled once only: the program, which links them, is not among what is tested with it.
without_race := ./internal/core/... ./internal/e2e ./internal/place/objects ./internal/queue/brokers
heavy_tests := AKillAtEach|AtRandomMoments|KilledAtRandom|SurvivesAKill|KillsItsReader|TenThousand|RandomPlays|ManyArrivalsAtATime

test: build ## everything a change must pass
	@setup/install.sh postgresql chromium openssh-server proftpd mariadb rabbitmq
	@test -z "$$(gofmt -l cmd internal)" || { gofmt -l cmd internal; echo "not formatted: run gofmt -w cmd internal"; exit 1; }
	go vet ./... # all of it, and once: not again with each test
	go tool staticcheck ./...
	go test -vet=off -timeout 10m -parallel 8 $(without_race)
	go test -vet=off -timeout 10m -parallel 8 -run '$(heavy_tests)' ./internal/engine ./internal/ledger ./internal/table
	go test -vet=off -race -timeout 12m -parallel 4 -skip '$(heavy_tests)' $$(go list ./... | grep -v -e /core/ -e /e2e -e /objects -e /brokers -e /cmd/)

bench: build ## the benchmarks of docs/performance.md
	@setup/install.sh postgresql chromium openssh-server
	go test -run '^$$' -bench . -benchtime 1x -timeout 60m ./internal/bench
	go test -run '^$$' -bench 'Listing|Formats|ChecksInALoad|Drafts|VolumesOfAYear|Objects|Extract' -benchtime 3x -timeout 15m ./internal/intake ./internal/reading ./internal/engine ./internal/ledger ./internal/place/objects ./internal/extract
	go test -run '^$$' -bench 'Rollup|Replace|Ranks|Recall' -benchtime 2x -timeout 20m ./internal/table

shapes: build ## loads of many shapes, beside a script by hand: make shapes ROWS=6000000
	@setup/install.sh postgresql
	bin/mullein bench --rows $(or $(ROWS),2000000)

fuzz: ## fuzz each target: make fuzz EACH=1h
	@setup/install.sh postgresql
	setup/fuzz.sh $(EACH)

deb: build ## a Debian package in bin, with man pages and a service of systemd
	@setup/deb.sh

# What is made from the code and kept: the API's description, from which the
# console's client is made, and the feed file's schema and reference.
docs: ## what is made from the code: the API's description, the feed file's reference
	go run ./internal/server/openapi > web/src/api/openapi.json
	go run ./internal/core/feed/reference
	go run ./internal/settings/reference

screenshots: build ## the pictures of docs/screenshots, from a demo that has worked for a while
	@setup/install.sh postgresql chromium
	setup/screenshots.sh

clean: ## remove what was built
	rm -rf bin web/node_modules web/dist
	find internal/server/console -mindepth 1 ! -name .keep -delete
