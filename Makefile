# Two commands do all: make demo, make test. What they need is installed first.
SHELL := /bin/bash
export CGO_ENABLED ?= 0
GOFLAGS_BUILD := -trimpath -ldflags "-s -w"
STAMPS := .state/stamps

.PHONY: help demo test upgrade race model campaign plans fuzz check build generate mutants situations ratio bench screenshots clean
help:
	@echo "make demo         play the sample scenario (ONCE=1: end by itself; TALE=sizing, healing,"
	@echo "                  images or all: another part of it)"
	@echo "make test         all tests"
	@echo "make upgrade      the last release and this one side by side on one database, both ways"
	@echo "make race         the tests of what runs at once, under the race detector"
	@echo "make model        the protocol of leases and driver calls, by a model checker"
	@echo "make campaign     faults under traffic for MINUTES=10: replicas, machines, the database"
	@echo "make plans        ten thousand random lives of a group against what must never break"
	@echo "make fuzz         random bytes to what reads requests and answers, SECONDS=600 in all"
	@echo "make check        format, vet, staticcheck, types, generated code"
	@echo "make build        bin/unitas with the console in it"
	@echo "make bench        the speeds that are promised"
	@echo "make screenshots  retake docs/screenshots"
	@echo "make ratio        how much of the code is tests"
	@echo "make clean        remove all that was made"

build: bin/unitas

GO_FILES := $(shell find cmd cli client internal web demo api -name '*.go' -not -path '*/node_modules/*' 2>/dev/null) go.mod go.sum
WEB_FILES := $(shell find web/src web/index.html web/vite.config.ts web/tsconfig.json 2>/dev/null -type f)

bin/unitas: $(GO_FILES) web/dist/index.html internal/store/migrations/*.sql
	go build $(GOFLAGS_BUILD) -o $@ ./cmd/unitas

bin/timetable-%: demo/timetable/main.go
	go build -trimpath -ldflags "-s -w -X main.release=$*" -o $@ ./demo/timetable

# The last release, for the upgrade; a clone without history has none.
bin/unitas-last: build/last-release build/last
	build/last

bin/receiver: demo/receiver/main.go go.mod
	go build -trimpath -ldflags "-s -w" -o $@ ./demo/receiver

bin/play: demo/play/*.go $(GO_FILES)
	go build $(GOFLAGS_BUILD) -o $@ ./demo/play

# The console is built only when something of it changed.
web/dist/index.html: $(WEB_FILES) $(STAMPS)/npm
	cd web && npm run --silent build

$(STAMPS)/npm: web/package.json web/package-lock.json
	@mkdir -p $(STAMPS)
	cd web && npm ci --no-audit --no-fund --loglevel=error
	@touch $@

# PostgreSQL's server programs, without a cluster on 5432.
$(STAMPS)/postgresql:
	@mkdir -p $(STAMPS)
	@build/need-postgresql
	@touch $@

$(STAMPS)/spin:
	@mkdir -p $(STAMPS)
	@build/need-packages spin gcc libc6-dev
	@touch $@

$(STAMPS)/gcc:
	@mkdir -p $(STAMPS)
	@build/need-packages gcc libc6-dev
	@touch $@

$(STAMPS)/chromium:
	@mkdir -p $(STAMPS)
	@build/need-packages chromium
	@touch $@

demo: $(STAMPS)/postgresql bin/unitas bin/timetable-1 bin/timetable-2 bin/receiver bin/play
	@bin/play $(if $(ONCE),-once) $(if $(TALE),-tale $(TALE))

test: $(STAMPS)/postgresql $(STAMPS)/chromium bin/unitas bin/timetable-1 bin/timetable-2 bin/receiver bin/play
	cd web && npm run --silent test
	go test -count=1 -timeout 12m -parallel 8 $(if $(CI),-v) ./...
	@[ bin/unitas-last -nt build/last-release ] || build/last || echo "the upgrade is not tested"
	go test -C test/e2e -count=1 -timeout 14m -parallel 3 $(if $(CI),-v) ./...

upgrade: $(STAMPS)/postgresql bin/unitas bin/unitas-last bin/timetable-1 bin/timetable-2
	go test -C test/e2e -count=1 -v -run TestUpgrade ./...

# What has goroutines of its own. The race detector needs a C compiler.
race: $(STAMPS)/postgresql $(STAMPS)/gcc
	CGO_ENABLED=1 go test -race -count=1 -timeout 10m ./internal/control ./internal/feed ./internal/sockets ./internal/balancer/... ./internal/probe \
		./internal/store ./internal/drill ./internal/image ./internal/machine/process

generate: $(STAMPS)/npm
	go tool -modfile=build/tools/go.mod oapi-codegen -config api/types.cfg.yaml api/openapi.yaml
	go tool -modfile=build/tools/go.mod oapi-codegen -config api/server.cfg.yaml api/openapi.yaml
	go tool -modfile=build/tools/go.mod oapi-codegen -config api/client.cfg.yaml api/openapi.yaml
	cd web && npm run --silent types

check: $(STAMPS)/npm web/dist/index.html
	@build/check

model: $(STAMPS)/spin
	@build/model

# MINUTES: how long.
campaign: $(STAMPS)/postgresql bin/unitas bin/timetable-1 bin/timetable-2
	UNITAS_CAMPAIGN=$(or $(MINUTES),10)m go test -C test/e2e -count=1 -timeout $$(( $(or $(MINUTES),10) + 8 ))m -run TestCampaign -v .

# What a test run plays three thousand of.
plans:
	go test ./internal/fleet/rehearse -run TestFaultPlans -plans 10000 -count=1 -v

# SECONDS: how long in all.
fuzz:
	@build/fuzz $(or $(SECONDS),600)

# ONLY, FROM: some faults, by a part of their names. What came of each is kept in .state/mutants.json,
# so that a run that was broken off goes on where it was; FRESH=1 begins anew.
mutants:
	@go run ./test/mutants $(if $(ONLY),-only '$(ONLY)') $(if $(FROM),-from '$(FROM)') $(if $(SIDE),-side $(SIDE)) $(if $(FRESH),-fresh)

# Which of the situations of the core, without their mends, random plans notice; PLANS: of how many.
situations:
	@go run ./test/mutants -situations -plans $(or $(PLANS),20000) $(if $(ONLY),-only '$(ONLY)')

ratio:
	@build/ratio

bench: $(STAMPS)/postgresql $(STAMPS)/chromium bin/unitas bin/timetable-1 bin/timetable-2 bin/receiver bin/play
	@build/bench

screenshots: $(STAMPS)/postgresql $(STAMPS)/chromium bin/unitas bin/timetable-1 bin/timetable-2 bin/receiver bin/play
	@build/screenshots

clean:
	rm -rf bin .state web/node_modules /var/tmp/unitas-demo
	find web/dist -mindepth 1 -not -name .keep -delete
