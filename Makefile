# Dravin. Plain make lists what there is.
SHELL := /bin/bash
.DEFAULT_GOAL := help
LISTEN ?= 127.0.0.1:8080

WEB := $(shell find web/src web/public -type f 2>/dev/null) web/index.html web/vite.config.ts web/svelte.config.js
GO := $(shell find bundle capture cmd core demo lab server store -name '*.go' -o -name '*.sql' -o -name '*.yaml') web/embed.go go.mod go.sum

.PHONY: help demo demo-reset test build dev lint check-go check-web bench bench-web bench-load truth faults screenshots generate fuzz setup-demo setup-test

help: ## list the commands
	@grep -hE '^[a-z-]+:.*## ' $(MAKEFILE_LIST) | awk -F ':.*## ' '{printf "make %-12s %s\n", $$1, $$2}'

demo: setup-demo bin/dravin ## run Dravin with the demo estate at http://127.0.0.1:8080 (LISTEN=address:port)
	@exec bin/dravin demo --listen $(LISTEN)

demo-reset: bin/dravin ## forget what was edited in the demo
	@bin/dravin demo --reset

test: setup-test ## install what tests need and run every check there is
	@$(MAKE) --no-print-directory lint build check-go check-web

build: bin/dravin ## build the binary with everything in it

dev: setup-demo bin/dravin web/node_modules/.stamp ## run the server and the front end, rebuilt as you edit
	@trap 'kill 0' EXIT; bin/dravin demo & cd web && npm run dev

lint: web/node_modules/.stamp e2e/node_modules/.stamp ## formatting, vet, static checks, type checks
	@test -z "$$(gofmt -l bundle capture cmd core demo lab server store web/embed.go)" || { echo "run gofmt on:"; gofmt -l bundle capture cmd core demo lab server store; exit 1; }
	go vet ./...
	go tool staticcheck ./...
	cd web && npm run -s lint && npm run -s check
	cd e2e && npm run -s check
	@cd web && npx openapi-typescript ../schema/openapi.yaml -o node_modules/.schema.d.ts >/dev/null 2>&1 && npx prettier --stdin-filepath schema.d.ts <node_modules/.schema.d.ts | cmp - src/api/schema.d.ts || { echo "the TypeScript client is stale: run make generate"; exit 1; }

# What many use at once is held by the race detector, too.
shared := dravin/server dravin/core/snapshot

# The lab comes first: it waits for daemons most of the time, and the others run beside it. lint has vetted them.
check-go:
	go test -vet=off -timeout 90m ./lab/... $$(go list ./... | grep -v ^dravin/lab | grep -vx $(shared:%=-e %))
	go test -vet=off -race -timeout 90m $(shared)

check-web: bin/dravin e2e/node_modules/.stamp
	rm -rf .dravin/e2e
	cd e2e && npm run -s units && npm run -s test

bench: ## benchmarks of the core
	go test -run '^$$' -bench . -benchmem ./core/... ./store
	go test -run '^$$' -bench . -benchtime 3x ./lab

truth: setup-test ## random estates in namespaces against their walks (TRUTH=600 of the first kind), BGP daemons against learned routes (TRUTH_BGP=200), and random work step by step (TRUTH_WORK=40)
	CI=1 DRAVIN_TRUTH=$(or $(TRUTH),600) DRAVIN_TRUTH_BGP=$(or $(TRUTH_BGP),200) DRAVIN_TRUTH_INSTANCES=40 DRAVIN_TRUTH_WORKED=20 DRAVIN_TRUTH_DRILLS=40 DRAVIN_TRUTH_SIGHTS=40 DRAVIN_TRUTH_SIZES=40 DRAVIN_TRUTH_MATRIX=100 go test ./lab -count=1 -v -timeout 90m -parallel 4 -run 'TestTruth|TestMatrix'
	scripts/settings.sh $(CURDIR)/.dravin/settings
	DRAVIN_SETTINGS=$(CURDIR)/.dravin/settings go test ./core/sheet -count=1 -v -run Settings
	CI=1 DRAVIN_REHEARSE=all go test ./lab/stage -count=1 -v -timeout 30m -parallel 4 -run 'AreRehearsed|IsRehearsed' -skip RandomWork
	CI=1 DRAVIN_WORKED=$(or $(TRUTH_WORK),40) go test ./lab/stage -count=1 -v -timeout 90m -run RandomWork

bench-web: setup-test bin/dravin e2e/node_modules/.stamp ## how fast ruler and table move with 20,000 prefixes
	rm -rf .dravin/e2e
	cd e2e && npm run -s bench

bench-load: bin/dravin ## 500 mixed requests a second at 300 sites, the client on one core
	go build -o .dravin/load ./cmd/load
	.dravin/load -seconds 30

faults: setup-test build ## readers at their limits, kills, stops, freezes and cut listeners in the large (FAULTS=1000 each)
	DRAVIN_WORST=all go test ./core/ingest ./cmd/dravin -count=1 -v -run 'WorstFiles|ReadersAtTheirLimits'
	FAULTS=$(or $(FAULTS),1000) go test ./store ./cmd/dravin ./server -count=1 -v -timeout 3h -run 'Kill|Cut|AtOnce|Held|Frozen|Silent|Restarted|Dump'

fuzz: ## fuzz each reader for a minute
	go test ./core/prefix -run '^$$' -fuzz FuzzParse -fuzztime 1m
	go test ./core/design -run '^$$' -fuzz FuzzRead -fuzztime 1m
	go test ./core/command -run '^$$' -fuzz FuzzUnderstand -fuzztime 1m
	go test ./core/sheet -run '^$$' -fuzz FuzzReadSent -fuzztime 1m
	go test ./core/ingest -run '^$$' -fuzz 'FuzzRead$$' -fuzztime 1m
	go test ./core/ingest -run '^$$' -fuzz FuzzReadRules -fuzztime 1m
	go test ./core -run '^$$' -fuzz FuzzWhatIsAcceptedIsEndured -fuzztime 1m

screenshots: setup-test bin/dravin e2e/node_modules/.stamp ## take the pictures in docs/screenshots anew
	rm -rf .dravin/e2e
	cd e2e && npm run -s screenshots

generate: web/node_modules/.stamp ## write schema/ and the TypeScript client from the Go types
	go run ./cmd/generate
	cd web && npm run -s generate

setup-demo:
	@scripts/setup.sh demo

setup-test:
	@scripts/setup.sh test

bin/dravin: $(GO) web/dist/index.html
	go build -o $@ ./cmd/dravin

web/dist/index.html: $(WEB) web/node_modules/.stamp
	cd web && npm run -s build
	@touch $@

# Not npm ci: it refuses a lock file without the optional packages of other
# platforms. --no-save keeps what is installed to what the lock file pins.
%/node_modules/.stamp: %/package-lock.json
	cd $* && npm install --no-save --no-audit --no-fund --loglevel=error
	@touch $@
