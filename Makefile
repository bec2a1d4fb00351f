# The commands people need. Everything runs with Go alone.

VERSION := $(shell git describe --tags 2>/dev/null)
COMMIT  := $(shell git rev-parse --short=12 HEAD 2>/dev/null)
LDFLAGS := -s -w -X main.version=$(VERSION) -X main.commit=$(COMMIT)

export CGO_ENABLED = 0

.DEFAULT_GOAL := build
.PHONY: help build demo test lint servers fuzz bench kills versions test-arm test-cluster corpus nextfiles dist screenshots clean

help: ## this list
	@grep -E '^[a-z]+:.*##' Makefile | sed 's/:.*##/\t/'

build: ## one static program, bin/ambertray
	go build -trimpath -ldflags '$(LDFLAGS)' -o bin/ambertray ./cmd/ambertray

demo: build ## the full example on the sample data
	bin/ambertray demo

test: lint ## everything, on real servers; SERVERS=none does without
	scripts/test

lint: ## gofmt, vet, staticcheck, and a build for other systems
	@test -z "$$(gofmt -l cmd internal)" || { gofmt -l cmd internal; echo "gofmt would change these"; exit 1; }
	go vet ./...
	go tool staticcheck ./...
	@for os in windows darwin freebsd; do echo "go build, go vet for $$os"; GOOS=$$os go build ./... && GOOS=$$os go vet ./... || exit 1; done
	GOARCH=arm64 go vet ./internal/source/delimited

servers: build ## start PostgreSQL, MariaDB and the stand-in for SQL Server for a developer, and print their URLs
	@scripts/servers start $${TMPDIR:-/tmp}/ambertray-servers && cat $${TMPDIR:-/tmp}/ambertray-servers/env
	@echo "# stop them with: scripts/servers stop $${TMPDIR:-/tmp}/ambertray-servers"

fuzz: ## each fuzz target for half a minute
	@set -e; for p in $$(grep -l 'func Fuzz' $$(git ls-files '*_test.go')); do \
		for f in $$(sed -n 's/^func \(Fuzz[A-Za-z]*\).*/\1/p' $$p); do \
			echo "$$p $$f"; go test ./$$(dirname $$p) -run '^$$' -fuzz "^$$f$$" -fuzztime 30s; done; done

bench: build ## ratios against baselines, in one run on this machine
	scripts/bench

versions: ## the tests on PostgreSQL 12 to 18, whose binaries npm brings; about half an hour
	scripts/versions $${TMPDIR:-/tmp}/ambertray-versions

test-arm: ## what is written for arm64, by an emulator (Debian's qemu-user-static)
	GOARCH=arm64 go test -exec qemu-aarch64-static ./internal/source/delimited ./internal/profile ./internal/reading

test-cluster: ## the tests on a Galera cluster, and on PostgreSQL with partitions on other servers
	scripts/test-cluster

kills: ## kills loads at random moments, 100 on each database
	scripts/kills 100

corpus: build ## looks at files of others and compares with what a person found; fetches them
	scripts/corpus/fetch $${TMPDIR:-/tmp}/ambertray-corpus && go run ./internal/corpus $${TMPDIR:-/tmp}/ambertray-corpus

nextfiles: build ## makes plans of files of others, changes the files in 16 ways, and loads them by the plans
	scripts/corpus/fetch $${TMPDIR:-/tmp}/ambertray-corpus && go run ./internal/nextfiles $${TMPDIR:-/tmp}/ambertray-corpus

dist: ## programs, archives and packages for all systems, in dist/, the same bytes for the same commit
	go run ./internal/dist -version "$$(git describe --tags --always)" -commit $(COMMIT) -time $$(git show -s --format=%ct HEAD) -out dist

screenshots: build ## pictures of the main commands' output, in docs/screenshots
	scripts/screenshots

clean:
	rm -rf bin
