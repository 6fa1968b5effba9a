# The two commands that matter: `make demo` and `make test`. Both install what they need themselves.
.PHONY: demo build console test soak fuzz bench tools screenshots clean

NPM_STAMP = console/node_modules/.installed
CONSOLE_SOURCES = $(shell find console/src console/public -type f ! -name '*.gen.ts' 2>/dev/null) console/index.html console/vite.config.ts console/package.json console/tsconfig.json

demo: build
	@exec bin/tollgate-lab up $(DEMO_FLAGS)

build: console/dist/index.html
	@mkdir -p bin
	go build -o bin/ ./cmd/...

console: console/dist/index.html

$(NPM_STAMP): console/package.json console/package-lock.json
	cd console && npm ci --no-audit --no-fund --loglevel=error
	@touch $@

# The types of the console come from the service's own OpenAPI document.
console/src/api/schema.gen.ts: $(NPM_STAMP) $(wildcard internal/web/api/*.go internal/web/apitype/*.go internal/core/*/*.go)
	go run ./cmd/tollgated -openapi > console/openapi.json
	cd console && npm run --silent types

console/dist/index.html: $(NPM_STAMP) console/src/api/schema.gen.ts $(CONSOLE_SOURCES)
	cd console && npm run --silent check && npm run --silent build
	@touch $@

# Real peers that the tests run against; installed only by root, reported otherwise.
tools:
	@sh test/tools.sh

test: tools build
	@test -z "$$(gofmt -l cmd internal test console/*.go)" || { echo "gofmt:"; gofmt -l cmd internal test console/*.go; exit 1; }
	go vet ./...
	go tool staticcheck ./...
	go test -count=1 -timeout 50m -parallel 4 ./...
	go test -race -count=1 -timeout 10m $(RACED)
	go test -race -count=1 -timeout 10m ./test/hostile -conversations 300

# The race detector looks at every package that starts goroutines or is called by several. The core is pure, and the codecs hold
# no state; what nodes share is looked at with real engines by make soak, and with a log in memory here.
RACED = $$(go list ./internal/... | grep -v -e /internal/core -e /internal/wire -e /internal/cluster)

# Long searches, which end by themselves: devices and gear that deviate from their protocols, and random input to every decoder.
soak: build
	go test -race -count=3 -timeout 30m ./internal/cluster
	go test ./test/hostile -count=1 -conversations 100000 -within 10m -timeout 25m -v

fuzz:
	@sh test/fuzz.sh $(FUZZ_TIME)

bench: build
	go test -run '^$$' -bench . -benchmem ./internal/...
	go run ./test/load
	go run ./test/load -records 1000000
	go run ./test/load -retention 1000000
	go run ./test/load -large
	go run ./test/load -accounting
	go run ./test/load -streams
	go run ./test/load -challenge
	go run ./test/load -nodes
	go run ./test/load -presence 1000000

screenshots: build
	go run ./test/shots

clean:
	rm -rf bin console/dist/assets console/dist/index.html console/openapi.json console/src/api/schema.gen.ts $(NPM_STAMP)
