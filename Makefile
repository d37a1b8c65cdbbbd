# make demo   builds the program and opens it on Skerry Line
# make test   runs all tests
# The rest is for those who work on it; each installs what it lacks.

GO ?= go
STATICCHECK = honnef.co/go/tools/cmd/staticcheck@v0.8.2

.PHONY: build dist demo headless cluster test test-cluster test-machine cross check bench guards soak fuzz screenshots tools clean

# The same bytes from the same commit, whatever the folder; tests share what was compiled.
export GOFLAGS = -trimpath

build:
	@echo "building bin/aditus; from nothing it takes some minutes, and names each package that is done" >&2
	@CGO_ENABLED=0 $(GO) build -v -ldflags='-s -w' -o bin/aditus ./cmd/aditus

demo: build
	@./bin/aditus demo --anew

headless: build
	@./bin/aditus demo --headless --anew

# Opens it on a real cluster on this machine, with a gateway, traffic, and a version that is bad; needs root.
cluster: build
	@scripts/cluster demo

test: tools
	$(GO) test -timeout 20m ./...

# What has a real cluster for its site; make test does it too where scripts/cluster build has been.
test-cluster: tools
	$(GO) test -count=1 -timeout 20m ./internal/target/cluster

# What control groups of the second version hold, in a machine of its own that is started for it.
test-machine:
	scripts/machine

# Builds it for all systems that make dist builds it for, and runs it nowhere.
cross:
	@for at in linux/arm64 darwin/amd64 darwin/arm64 windows/amd64; do \
		echo "for $$at" >&2; CGO_ENABLED=0 GOOS=$${at%/*} GOARCH=$${at#*/} $(GO) build -o /dev/null ./cmd/aditus || exit 1; done

# All that is given out of a commit, in bin/dist: programs, packages, an image, what they are made of, checksums.
dist:
	@scripts/install zip
	@scripts/dist

check:
	@files=$$(gofmt -l cmd internal); test -z "$$files" || { echo "gofmt these: $$files"; exit 1; }
	$(GO) vet ./...
	$(GO) run $(STATICCHECK) ./...
	$(GO) test -count=1 ./internal -run TestImports

bench: build
	@scripts/bench

# Measures the guards on made-up traffic and writes the figures of docs/guards.md; it takes a quarter of an hour.
guards:
	$(GO) run ./cmd/guards

# 20 000 simulated rollouts of all styles, and 5 000 stories of a berth, every step held against the laws of docs/rollout.md; then ten times
# as many states after a power cut, a day of releases, 1 000 releases under load, and 300 kills in the midst of them. It takes two hours.
soak:
	ADITUS_SEEDS=20000 $(GO) test -count=1 -timeout 60m -run 'Simulation' ./internal/core/rollout
	ADITUS_SEEDS=5000 $(GO) test -count=1 -timeout 60m -run 'Simulation' ./internal/core/berth
	ADITUS_SEEDS=20000 $(GO) test -count=1 -timeout 60m -run 'Simulation|Turns' ./internal/core/course
	ADITUS_LONG=1 $(GO) test -count=1 -timeout 60m -run 'PowerCut' ./internal/...
	ADITUS_HOURS=24 $(GO) test -count=1 -timeout 60m -v -run 'TestHours' ./internal/engine
	ADITUS_RELEASES=1000 $(GO) test -count=1 -timeout 120m -v -run 'TestReleases' ./internal/cli
	ADITUS_KILLS=300 $(GO) test -count=1 -timeout 120m -v -run 'TestKills' ./internal/cli
	ADITUS_TAKEOVERS=60 $(GO) test -count=1 -timeout 60m -v -run 'TestServers' ./internal/cli

fuzz:
	$(GO) test -run '^$$' -fuzz 'FuzzRead$$' -fuzztime 60s ./internal/source
	$(GO) test -run '^$$' -fuzz FuzzLoad -fuzztime 60s ./internal/source
	$(GO) test -run '^$$' -fuzz FuzzRules -fuzztime 60s ./internal/source
	$(GO) test -run '^$$' -fuzz FuzzUnpack -fuzztime 60s ./internal/source
	$(GO) test -run '^$$' -fuzz FuzzSetField -fuzztime 60s ./internal/source
	$(GO) test -run '^$$' -fuzz FuzzReadSeries -fuzztime 60s ./internal/scrape
	$(GO) test -run '^$$' -fuzz FuzzRecording -fuzztime 60s ./internal/scrape
	$(GO) test -run '^$$' -fuzz FuzzReadSettings -fuzztime 60s ./internal/config
	$(GO) test -run '^$$' -fuzz FuzzHooks -fuzztime 60s ./internal/control/api
	$(GO) test -run '^$$' -fuzz FuzzAlerts -fuzztime 60s ./internal/control/api
	$(GO) test -run '^$$' -fuzz FuzzTake -fuzztime 60s ./internal/scrape/pushed
	$(GO) test -run '^$$' -fuzz FuzzDecodeFact -fuzztime 60s ./internal/ledger

screenshots: build
	@scripts/install tmux xvfb xterm imagemagick fonts-dejavu-core
	@scripts/screenshots

tools:
	@scripts/install tmux
	@scripts/install podman runc netavark aardvark-dns iptables iproute2 openssh-server || echo "tests of a container engine are left out" >&2
	@scripts/install python3-prometheus-client prometheus-node-exporter prometheus || echo "tests of some exposers of metrics, and of a metrics store, are left out" >&2
	@scripts/install postgresql || echo "tests of a ledger in PostgreSQL are left out" >&2

clean:
	rm -rf bin
