# Everything that a new machine needs is installed by these targets: Go modules by the go
# command, Debian packages by scripts/packages.
GO ?= go
export CGO_ENABLED ?= 1

.PHONY: demo build test check bench lines screenshots docs

## demo: open the program on the demo workspace with its stand-in broker
demo: build
	@bin/hodstone demo

## build: make bin/hodstone
build:
	$(GO) build -o bin/hodstone ./cmd/hodstone

## test: install what the tests need and run them all under the race detector
test:
	scripts/packages mosquitto tmux
	$(GO) test -race -parallel 4 -timeout 12m ./...

## check: formatting, vet, staticcheck and the floors
check:
	@unformatted=$$(gofmt -l cmd demo internal); [ -z "$$unformatted" ] || { echo "gofmt: $$unformatted"; exit 1; }
	$(GO) vet ./...
	$(GO) tool staticcheck ./...
	$(GO) test -run TestFloors ./cmd/hodstone

## bench: run the benchmarks; baselines stand beside what is measured
bench:
	$(GO) test -run xxx -bench . -benchmem ./...

## lines: how much of the Go code is tests; fails outside 22 to 35 %
lines:
	@scripts/lines

## docs: write docs/workspace.md, docs/workspace.schema.json and docs/causes.md from the source
docs:
	$(GO) test ./internal/workspace ./internal/reach -run TestReference -update

## screenshots: make docs/screenshots anew from the demo
screenshots: build
	scripts/packages xvfb xterm tmux imagemagick fonts-dejavu-core
	scripts/screenshots
