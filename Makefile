# Everything a fresh machine needs beside Go and make is in go.mod.
export CGO_ENABLED = 0
GOFLAGS_BUILD = -trimpath -ldflags "-s -w"

.PHONY: build demo test bench fuzz faults interleavings storm packages servers test-all test-postgres-versions

build:
	go build $(GOFLAGS_BUILD) -o bin/lastboard ./cmd/lastboard

# The story on made-up data, in a new folder.
demo: build
	rm -rf harbour-demo
	bin/lastboard demo harbour-demo

# The servers that the tests start for themselves; what is there already is left alone.
servers:
	sh test/server/install.sh

test: servers
	go vet ./...
	go vet -tags faults ./internal/mishap
	go tool staticcheck ./...
	go test -count=1 -parallel 8 -timeout 60m ./...

bench: servers
	go run ./bench

# The same tests against other versions of the server, which come as packages of npm.
test-postgres-versions:
	sh test/server/versions.sh

# What make test tries in turn, all of it: every test on every engine, every operation on every kind of MariaDB table,
# every kill, and a thousand random migrations that are compared over the three engines.
test-all: servers
	go test ./test -count=1 -parallel 6 -timeout 180m -all-kinds
	go test ./test -count=1 -timeout 180m -run TestRandomMigrationsAreEqual -seeds 6000

# Faults at every place of every kind of change, and something that applications do at every
# statement of a run, on every engine, under a new seed.
faults: servers
	go test ./test -count=1 -v -timeout 180m -run 'TestEveryFault|TestEveryKind|Killed|TestFullDisk|TestInterleavings' -all-kinds -faults 1000 -fault-seed $$(date +%s) -every-place 1 -interleave-seed $$(date +%s)

# Each thing that applications do at every statement of a run: some hours for each engine.
# With -run TestInterleavings/MariaDB one alone.
interleavings: servers
	go test ./test -count=1 -v -timeout 1200m -run TestInterleavings -every-place 12 -interleave-seed $$(date +%s)

# Applications that write in every way, and runs to which everything happens, for two hundred
# rounds on each engine under a new seed: some two hours.
storm: servers
	go test ./test -count=1 -v -timeout 300m -run TestStorm -storm 200 -storm-seed $$(date +%s)

# A longer hunt: random migrations under new seeds, then the parser.
fuzz:
	go test ./test -count=1 -timeout 60m -run Random -seeds 1000 -seed 10000
	go test ./internal/sqltext -fuzz FuzzParse -fuzztime 5m

# Archives, a deb and an rpm in dist/, with man pages, completions, a list of parts and checksums: the
# deb is installed below a folder and removed. It is a module of its own.
packages:
	command -v rpm >/dev/null || apt-get install -y rpm
	command -v man >/dev/null || apt-get install -y man-db
	cd packages && go run . -root .. -out ../dist
	cd packages && go vet ./... && LASTBOARD_PACKAGES=$(CURDIR)/dist go test -count=1 ./...
