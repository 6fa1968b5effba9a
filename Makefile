# The two commands that matter: `make demo` and `make test`. Both install what they need themselves.
.PHONY: demo build console test bench tools screenshots clean

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
console/src/api/schema.gen.ts: $(NPM_STAMP) $(wildcard internal/api/*.go internal/apitype/*.go internal/core/*/*.go)
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
	go test -count=1 -timeout 14m -parallel 4 ./...

bench: build
	go test -run '^$$' -bench . -benchmem ./internal/...
	go run ./test/load

screenshots: build
	go run ./test/shots

clean:
	rm -rf bin console/dist/assets console/dist/index.html console/openapi.json console/src/api/schema.gen.ts $(NPM_STAMP)
