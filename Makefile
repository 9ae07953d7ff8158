# The version of the program, from git; a checkout without history builds as "unversioned".
VERSION := $(shell git describe --tags --always --dirty 2>/dev/null || echo unversioned)
FLAGS   := -trimpath -ldflags "-s -w -X ladle/internal/cli.Version=$(VERSION)"

export CGO_ENABLED = 0

.PHONY: build cross test chaos lint bench fuzz

build: ## bin/ladle, one static program
	go build $(FLAGS) -o bin/ladle ./cmd/ladle

cross: ## builds for the other systems too, and throws the programs away
	GOOS=linux   GOARCH=arm64 go build $(FLAGS) -o /dev/null ./cmd/ladle
	GOOS=darwin  GOARCH=arm64 go build $(FLAGS) -o /dev/null ./cmd/ladle
	GOOS=windows GOARCH=amd64 go build $(FLAGS) -o /dev/null ./cmd/ladle

test: ## all tests, never from the cache (they run a program that go test does not know of), with the database servers that they need
	scripts/with-servers go test -count=1 -timeout 40m ./...

chaos: ## loads that are killed, cut off and crowded again and again; ROUNDS=200 for each kind of database
	LADLE_CHAOS=$(or $(ROUNDS),200) scripts/with-servers go test -count=1 -timeout 3h -v -run 'TestChaos' ./internal/conformance

lint: ## vet, staticcheck, and gofmt's opinion
	go vet ./...
	go tool staticcheck ./...
	@test -z "$$(gofmt -l .)" || { echo "gofmt would change:"; gofmt -l .; exit 1; }

bench: build ## every figure against its floor; BENCH_FLAGS="-large 0 -on sqlite" leaves out much
	go build -o bin/bench ./bench
	scripts/with-servers bin/bench -ladle bin/ladle $(BENCH_FLAGS)

fuzz: ## each fuzz target for half a minute
	for target in source:FuzzText source:FuzzSheet value:FuzzParse ladlefile:FuzzDecode notation:FuzzNumber \
		notation:FuzzPattern formula:FuzzFormula text:FuzzTexts clean:FuzzRules draft:FuzzScalar logbook:FuzzRowsComeBackAsTheyWere engine/mysql:FuzzTokens; do \
		go test ./internal/core/$${target%:*} -run - -fuzz $${target#*:} -fuzztime 30s -fuzzminimizetime 10x || exit 1; done
