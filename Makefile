# The commands people need. Everything runs with Go alone.

VERSION := $(shell git describe --tags --always 2>/dev/null || echo development)
COMMIT  := $(shell git rev-parse --short=12 HEAD 2>/dev/null || echo unknown)
LDFLAGS := -s -w -X main.version=$(VERSION) -X main.commit=$(COMMIT)

export CGO_ENABLED = 0

.PHONY: build demo test lint fuzz bench screenshots clean

build: ## one static program, bin/ambertray
	go build -trimpath -ldflags '$(LDFLAGS)' -o bin/ambertray ./cmd/ambertray

demo: build ## the full example on the sample data
	bin/ambertray demo

clean:
	rm -rf bin
