# make demo     set up, build, and run the demo until interrupted
# make test     set up, build, lint, and run every test
# make bench    what the hot paths cost, as ratios to bare limits
# make soak     a thousand viewers for a quarter of an hour; SOAK=5m for less
# make attack   strangers, faults and floods against a live service; ATTACK=quick within two minutes
# make age      sixty days of media time, as fast as the machine lives through them; AGE=7 for a week
# make build    the binary, bin/metaplasis
# make format   format Go and web sources
# make types    write the console's types from the Go types of the control API
# make limits   write docs/limits.md from the bounds in the code
# make shots    take the pictures in docs/screenshots anew

GO_FILES := $(shell find cmd demo e2e internal web -name '*.go' -not -path '*/node_modules/*')
WEB_FILES := $(shell find web/src web/public -type f) $(wildcard web/*.html web/*.ts web/*.js web/package-lock.json)

.PHONY: demo test unit aged bench soak attack build setup format lint shots types limits tables fuzz age clean

demo: build
	exec bin/metaplasis rehearse

setup:
	@tools/setup

build: setup bin/metaplasis

web/dist/index.html: $(WEB_FILES)
	cd web && npm run --silent build -- --logLevel warn

bin/metaplasis: web/dist/index.html $(GO_FILES) go.mod go.sum $(wildcard demo/*.flv internal/records/migrations/*.sql)
	go build -o $@ ./cmd/metaplasis

test: build
	$(MAKE) --no-print-directory --output-sync=target -j2 unit lint
	$(MAKE) --no-print-directory aged
	tools/e2e

unit: build
	cd web && npx vitest run
	go test -json -race ./internal/... | go run ./internal/house/results
	go test -json ./demo/... ./cmd/... | go run ./internal/house/results

# half a day of media time
aged:
	go test -count=1 -timeout 20m ./e2e/age

lint: setup web/dist/index.html
	@unformatted=$$(gofmt -l cmd demo e2e internal web/*.go); if [ -n "$$unformatted" ]; then echo "not formatted (make format): $$unformatted"; exit 1; fi
	go vet ./...
	go tool staticcheck ./...
	go run ./internal/house/unused
	cd web && npx prettier --check . && npx eslint . && npm run --silent check

format: setup
	gofmt -w cmd demo e2e internal web/*.go
	cd web && npx prettier --write .

bench: build
	go run ./e2e/bench

# a thousand viewers on one channel for SOAK; fails when the memory grows
SOAK ?= 15m
soak: build
	go run ./e2e/bench soak $(SOAK)

ATTACK ?=
attack: build
	go run ./e2e/attack $(ATTACK)

# days of media time of two channels with inputs, relays and a time-shift; a part of a day is within make test
AGE ?= 60
age:
	go test -count=1 -timeout 24h -v ./e2e/age -days $(AGE)

FUZZTIME ?= 10s
fuzz:
	tools/fuzz $(FUZZTIME)

limits:
	go test ./internal/house -run TestLimitsAreListed -write

# the tables of the docs that are made from the code
tables:
	go test ./internal/house -run "TestSchemesAreTheTables|TestTheStructureIsDrawn" -write

types:
	go run ./web/types

shots: build
	tools/shots

clean:
	rm -rf bin web/dist web/node_modules
