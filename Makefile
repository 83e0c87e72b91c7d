# Everything that a new machine needs is installed by these targets: Go modules by the go
# command, Debian packages by scripts/packages.
GO ?= go
export CGO_ENABLED ?= 1

.PHONY: demo build test check bench mutants lines screenshots docs

## demo: open the program on the demo workspace with its stand-in broker
demo: build
	@bin/hodstone demo

## build: make bin/hodstone
build:
	$(GO) build -o bin/hodstone ./cmd/hodstone

## test: install what the tests need and run them all under the race detector, and the whole matrix of faults, and of unusual and limited brokers, without it;
## three packages at a time, for most of it is waiting
test:
	scripts/packages mosquitto tmux
	$(GO) test -race -p 3 -parallel 3 -timeout 12m ./...
	$(GO) test -parallel 4 -timeout 8m -run 'TestEachFault|TestTheCatalogue|TestALimitIsNo|TestWhatTheStandardLeavesOpen' ./internal/proof/check

## check: formatting, vet, staticcheck and the floors
check:
	@unformatted=$$(gofmt -l cmd demo internal); [ -z "$$unformatted" ] || { echo "gofmt: $$unformatted"; exit 1; }
	$(GO) vet ./...
	$(GO) tool staticcheck ./...
	$(GO) test -run TestFloors ./cmd/hodstone

## bench: run the benchmarks; baselines stand beside what is measured
bench:
	$(GO) test -run xxx -bench . -benchmem ./...

## mutants: change the code in small ways, one at a time, run the package's short tests on each, and list the changes
## that no test notices; PACKAGES=./internal/mqtt/topic for one, all take two hours and a half
PACKAGES ?= ./internal/mqtt/topic ./internal/mqtt/packet ./internal/mqtt/client ./internal/mqtt/standin \
	./internal/contract \
	./internal/payload ./internal/trace ./internal/proof
mutants:
	@for p in $(PACKAGES); do echo "== $$p"; \
	  GOFLAGS=-short $(GO) run github.com/go-gremlins/gremlins/cmd/gremlins@v0.6.0 unleash $$p \
	    --workers 2 --timeout-coefficient 8 -E 'prooftest/' -S lt || exit 1; done

## lines: how much of the Go code is tests; fails outside 22 to 35 %
lines:
	@scripts/lines

## docs: write docs/workspace.md, docs/workspace.schema.json, docs/causes.md, docs/checks.md and docs/coverage.md from the source
docs:
	$(GO) test ./internal/workspace ./internal/reach ./internal/proof/check -run TestReference -update

## screenshots: make docs/screenshots anew from the demo
screenshots: build
	scripts/packages xvfb xterm tmux imagemagick fonts-dejavu-core
	scripts/screenshots
