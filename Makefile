# The version of the program, from git; a checkout without history builds as "unversioned".
VERSION := $(shell git describe --tags --always --dirty 2>/dev/null || echo unversioned)
FLAGS   := -trimpath -ldflags "-s -w -X ladle/internal/cli.Version=$(VERSION)"

export CGO_ENABLED = 0

.PHONY: build dist test cluster postgres18 office race cover chaos lint bench bench-compare bench-cluster fuzz vulnerabilities

build: ## bin/ladle, one static program
	go build $(FLAGS) -o bin/ladle ./cmd/ladle

dist: ## bin/dist: archives for all systems, Debian and RPM packages, their sums; twice, to see that they are the same
	cd dist && for out in dist again; do \
		go run . -version $(VERSION) -time $$(git log -1 --format=%ct 2>/dev/null || echo 0) -out $(CURDIR)/bin/$$out || exit 1; done
	cmp bin/dist/SHA256SUMS bin/again/SHA256SUMS && rm -rf bin/again
	cat bin/dist/SHA256SUMS

test: ## all tests, never from the cache (they run a program that go test does not know of), with the database servers that they need
	scripts/with-servers go test -count=1 -timeout 40m ./...

RUN ?= .

cluster: ## the conformance suite on a node of a Galera cluster, and what is about clusters; RUN=TestLoad for part of it
	LADLE_TEST_MYSQL=cluster scripts/with-servers --cluster \
		go test -count=1 -timeout 40m -run '$(RUN)' -skip '/(sqlite|postgres)' ./internal/conformance

postgres18: ## the conformance suite on PostgreSQL 18; RUN=TestLoad for part of it
	scripts/with-servers --postgres 18 go test -count=1 -timeout 40m -run '$(RUN)' -skip '/(sqlite|mysql)' ./internal/conformance

office: ## an office suite, which saves workbooks again in tests; where none can be installed, they take those of the library
	@command -v soffice >/dev/null || { [ "$$(id -u)" = 0 ] && command -v apt-get >/dev/null && apt-get update -qq && \
		DEBIAN_FRONTEND=noninteractive apt-get install -qq -y --no-install-recommends libreoffice-calc-nogui >/dev/null; } || \
		echo 'office: NOT INSTALLED, the tests take workbooks as the library saves them'

# SQLite and its libc are a hundred times slower under the race detector, which is there for our code.
UNWATCHED := -gcflags=modernc.org/...=-race=false

race: ## the core and part of the conformance suite, on all servers, under the race detector, which needs cgo
	CGO_ENABLED=1 go test -race $(UNWATCHED) -short -count=1 -timeout 40m ./internal/core/... ./internal/cli
	CGO_ENABLED=1 GORACE=atexit_sleep_ms=10 LADLE_TEST_BUILD="-race $(UNWATCHED)" scripts/with-servers go test -short -count=1 -timeout 40m \
		-run 'TestDemo|TestLoad$$|TestWhatBecame|TestPrepared|TestClaims|TestChecksFail|TestManyNames|TestRowsThatOnly' ./internal/conformance

cover: ## how much of the program the tests reach, those that drive the built program among them
	rm -rf cover && mkdir -p cover/units cover/program
	go test -count=1 -cover -coverpkg=./internal/... ./internal/core/... ./internal/cli ./internal/page ./internal/term \
		-args -test.gocoverdir=$(CURDIR)/cover/units
	LADLE_TEST_BUILD="-cover -coverpkg=ladle/..." GOCOVERDIR=$(CURDIR)/cover/program \
		scripts/with-servers go test -count=1 -timeout 60m ./internal/conformance
	go tool covdata textfmt -i=cover/units,cover/program -o cover/all.txt
	go tool cover -func cover/all.txt | tail -n 1
	go tool covdata percent -i=cover/units,cover/program

chaos: ## loads that are killed, cut off and crowded again and again; ROUNDS=200 for each kind of database
	LADLE_CHAOS=$(or $(ROUNDS),200) scripts/with-servers --cluster go test -count=1 -timeout 3h -v -run 'TestChaos' ./internal/conformance

lint: ## vet, staticcheck, and gofmt's opinion
	go vet ./...
	go tool staticcheck ./...
	cd dist && go vet . && go test -count=1 .
	@test -z "$$(gofmt -l .)" || { echo "gofmt would change:"; gofmt -l .; exit 1; }

bench: build ## every figure against its floor, in half an hour; BENCH_FLAGS="-runs 3 -on sqlite" for one part, three times
	go build -o bin/bench ./bench
	scripts/with-servers bin/bench -ladle bin/ladle $(BENCH_FLAGS)

bench-compare: build ## this program against that of another revision, in turns: BASE=HEAD~1
	go build -o bin/bench ./bench
	rm -rf bin/base && git worktree prune && git worktree add -q --detach bin/base $(or $(BASE),HEAD)
	cd bin/base && go build $(FLAGS) -o ../ladle-base ./cmd/ladle
	git worktree remove --force bin/base
	scripts/with-servers bin/bench -ladle bin/ladle -compare bin/ladle-base $(BENCH_FLAGS)

bench-cluster: build ## a load on a node of a Galera cluster against its floor
	go build -o bin/bench ./bench
	LADLE_TEST_MYSQL=cluster scripts/with-servers --cluster bin/bench -ladle bin/ladle -on cluster $(BENCH_FLAGS)

TIME ?= 30s

fuzz: ## each fuzz target of the module for a while: TIME=10m
	@grep -rHo --include='*_test.go' '^func Fuzz[A-Za-z]*' internal | while IFS=: read file found; do \
		set -x; go test ./$$(dirname $$file) -run - -fuzz "^$${found#func }\$$" -fuzztime $(TIME) -fuzzminimizetime 10x < /dev/null || exit 1; \
		{ set +x; } 2> /dev/null; done

vulnerabilities: ## those that are known in what the program calls; skipped, with a word, where their list can't be fetched
	@found=$$(go tool govulncheck ./cmd/ladle 2>&1); status=$$?; echo "$$found"; \
	if echo "$$found" | grep -q 'fetching vulnerabilities'; then echo 'vulnerabilities: SKIPPED, their list can not be fetched'; \
	else exit $$status; fi
