# Everything is made, tried and tested from here. `make` lists what there is.

.DEFAULT_GOAL := help
SHELL := /bin/bash -o pipefail
STATICCHECK := go tool -modfile=tools/go.mod staticcheck
GO_FILES := git ls-files -co --exclude-standard '*.go'
FUZZ_TIME ?= 5000x
WRITING_TIME ?= 500x

.PHONY: help build demo test nightly bench lint fmt generate screenshots go-test peers power-cuts fuzz e2e clean

help: ## list the targets
	@grep -hE '^[a-z-]+:.*## ' $(MAKEFILE_LIST) | sort | sed -E 's/^([a-z-]+):.*## (.*)/  make \1\t\2/' | expand -t 22

build: console/dist/app/index.html ## build the console and the program into bin/rectura
	CGO_ENABLED=0 go build -trimpath -ldflags '-s -w' -o bin/rectura ./cmd/rectura

demo: build ## build everything and run the service with the demo job
	./bin/rectura demo

test: lint console/dist/app/index.html go-test peers power-cuts fuzz e2e ## run every check; installs what it needs
	@echo "All checks passed."

go-test: install-gcc
	go test -race -timeout 30m ./...
	go test -tags counted ./core/logic ./service/api/bench -run 'Hostile|Writing' -count 1
	go test ./core/logic -run 'EveryFieldCounts' -count 1
	go test ./service/live -run 'Evenings|ADay|CaptureIsLive|FullDiskForLong' -count 1 -args -evenings 60
	go test ./service -run 'MuteUnits|Readers|BenchEnds' -count 1

# Devices of others, from Debian's packages, talk with ours over TCP and a serial line.
peers: install-gcc install-peers
	go test -race -tags peers -count 1 ./service/device/modbus
	go test -race -tags peers -count 1 ./service -run Peers

# What the service asks of the disk is written down by strace, and laid anew as a power cut would leave it.
power-cuts: install-gcc install-strace
	go test -tags powercuts -count 1 ./service -run PowerCuts

# A few thousand inputs for each fuzz test; the seeds run with the tests. They are counted, for a
# time that runs out within an input fails the test.
fuzz:
	go test ./core/sheet -run '^$$' -fuzz FuzzParse -fuzztime $(FUZZ_TIME)
	go test ./core/sheet -run '^$$' -fuzz FuzzEdit -fuzztime $(FUZZ_TIME)
	go test ./core/recording/csv -run '^$$' -fuzz FuzzRead -fuzztime $(FUZZ_TIME)
	go test ./core/recording -run '^$$' -fuzz FuzzDecodeBlock -fuzztime $(FUZZ_TIME)
	go test ./core/recording/format -run '^$$' -fuzz FuzzRead -fuzztime $(FUZZ_TIME)
	go test ./core/recording/format -run '^$$' -fuzz FuzzPattern -fuzztime $(FUZZ_TIME)
	go test ./core/iolist -run '^$$' -fuzz FuzzNames -fuzztime $(FUZZ_TIME)
	go test ./core/memo -run '^$$' -fuzz FuzzRead -fuzztime $(FUZZ_TIME)
	go test ./core/logic -run '^$$' -fuzz FuzzResume -fuzztime $(FUZZ_TIME)
	go test ./core/capture -run '^$$' -fuzz FuzzRead -fuzztime $(FUZZ_TIME)
	go test -tags counted ./service/api/bench -run '^$$' -fuzz FuzzWriting -fuzztime $(WRITING_TIME)

e2e: console/dist/app/index.html install-gcc install-chromium
	go test -race -tags e2e -count 1 ./console/e2e

nightly: ## thousands of random jobs, for a night on which nobody waits
	go test ./core/logic -run 'Naively|ExtraInstants|NeverAndAlways|NothingPossible|Together|SaveAndResume|Shift' -count 1 -rapid.checks 20000 -timeout 2h
	go test ./core/bench -run 'Algebra' -count 1 -rapid.checks 2000 -timeout 2h
	go test -tags counted ./service/api/bench -run '^$$' -fuzz FuzzWriting -fuzztime 1h -timeout 2h
	go test -tags counted ./service/api/bench -run '^$$' -bench Writing -benchtime 20000x
	go test -race ./service -run Crowd -crowd 60s -count 1 -v
	go test ./service -run KilledUnderLoad -kills 100 -count 1 -timeout 1h
	go test ./service -run BenchEnds -bench-ends 30 -count 1 -timeout 1h
	go test ./service -run BitsAfterKills -kills 50 -count 1 -timeout 1h
	go test -tags peers ./service -run PeersEvenings -count 1 -timeout 3h -args -evenings 100
	go test ./service -run Soak -soak 10m -count 1 -v
	go test ./service/live -run Evenings -count 1 -timeout 2h -args -evenings 3000
	go test -tags undone ./service/live -run Undone -count 1 -timeout 3h
	HOURS=20 go test ./service/live -run CaptureIsLive -count 1 -timeout 1h

bench: console/dist/app/index.html install-chromium ## print the speed as ratios, each taken within one run
	go test ./core/logic -run '^$$' -bench .
	go test ./core/recording/csv -run '^$$' -bench . -benchtime 5x
	go test ./core/recording/format -run '^$$' -bench . -benchtime 5x
	go test ./core/bench -run '^$$' -bench . -benchtime 5x
	go test ./service/store -run '^$$' -bench . -benchtime 5x
	go test -tags e2e ./console/e2e -run '^$$' -bench . -benchtime 1x

lint: console/node_modules/.installed ## gofmt, vet, staticcheck, generated code, the console's types and style
	@unformatted=$$($(GO_FILES) | xargs gofmt -l); if [ -n "$$unformatted" ]; then echo "not laid out by gofmt: $$unformatted; run make fmt"; exit 1; fi
	go vet -tags e2e,counted,peers,powercuts,undone ./...
	$(STATICCHECK) -tags e2e,counted,peers,powercuts,undone ./...
	scripts/check-generated
	cd console && npm run --silent check && npm run --silent test

fmt: ## lay out the Go files and the demo's sheets
	$(GO_FILES) | xargs gofmt -w
	go run ./cmd/rectura fmt examples/hatchery

generate: console/node_modules/.installed ## make the server, the clients and the demo's recordings anew
	go generate ./service/api ./service/api/bench ./service/api/live ./client ./examples/hatchery
	cd console && npm run --silent generate

screenshots: build install-chromium ## take the pictures of docs/screenshots anew
	go test -tags e2e -count 1 ./console/e2e -args -shots $(CURDIR)/docs/screenshots
	./bin/rectura replay examples/hatchery night --plot docs/screenshots/replay-night.png >/dev/null

clean: ## remove what was built
	rm -rf bin console/dist/app console/node_modules

console/node_modules/.installed: console/package-lock.json
	cd console && npm ci --no-audit --no-fund
	touch $@

console/dist/app/index.html: console/node_modules/.installed $(shell find console/src console/public -type f) console/index.html console/vite.config.ts
	cd console && npm run --silent build

# The race detector needs a C compiler; the program itself does not.
.PHONY: install-gcc install-chromium install-peers install-strace
install-gcc:
	@command -v gcc >/dev/null || scripts/apt-install gcc libc6-dev

install-peers:
	@command -v socat >/dev/null && command -v mbpoll >/dev/null && /usr/bin/python3 -c 'import pymodbus, serial_asyncio' 2>/dev/null || \
		scripts/apt-install socat mbpoll python3-pymodbus python3-serial-asyncio

install-strace:
	@command -v strace >/dev/null || scripts/apt-install strace

install-chromium:
	@command -v chromium >/dev/null || scripts/apt-install chromium
