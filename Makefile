# make demo   starts everything with made-up data
# make test   passes all checks and tests
# make storm  is a long test of what befalls a service; make test-galera the same on a cluster
# make sim    prints how often verdicts err, and how soon they come, over thousands of simulated releases
# make bench  prints speed as ratios to floors measured in the same run
# make demo-reset   throws the demo's data away

SHELL := /bin/bash
MODULES := . core client places otel openfeature examples/minimal

.PHONY: demo demo-reset test check sim bench build console tools tools-test clean storm test-galera

demo: build tools
	@exec bin/greenlever demo

demo-reset:
	@rm -rf .demo && echo "the demo's data is gone; make demo makes it anew"

build: bin/greenlever

GO_FILES := $(shell git ls-files -co --exclude-standard '*.go' '*.sql' 'go.mod' 'go.sum' 2>/dev/null)
CONSOLE_FILES := $(shell git ls-files -co --exclude-standard console docs/reference/words.md 2>/dev/null)

# The program is built twice: the API's document, from which the console's types are made,
# comes out of it.
bin/openapi.json: $(GO_FILES)
	@command -v go >/dev/null || { echo "Go is missing: install Go 1.26 or newer first" >&2; exit 1; }
	@mkdir -p bin
	@go build -o bin/greenlever ./cmd/greenlever
	@bin/greenlever openapi > $@.new && { cmp -s $@.new $@ && rm $@.new || mv $@.new $@; }

console/node_modules: console/package-lock.json
	@command -v npm >/dev/null || { echo "Node is missing: install Node 20 or newer with npm first" >&2; exit 1; }
	@cd console && npm ci --no-audit --no-fund -s && touch node_modules

console/src/api/schema.d.ts: bin/openapi.json console/node_modules
	@cd console && npx --no-install openapi-typescript ../bin/openapi.json -o src/api/schema.d.ts >/dev/null 2>&1 && touch src/api/schema.d.ts

internal/manage/dist/app/index.html: console/src/api/schema.d.ts $(CONSOLE_FILES)
	@echo "building the console ..."
	@cd console && npx --no-install vite build -l warn && touch ../internal/manage/dist/app/index.html

# The client for browsers, which the service serves.
internal/edge/dist/browser/greenlever.js: console/node_modules $(CONSOLE_FILES)
	@cd console && npx --no-install vite build -c vite.browser.ts -l warn && \
		npx --no-install tsc browser/greenlever.ts browser/react.ts --declaration --emitDeclarationOnly --outDir ../internal/edge/dist/browser --target es2022 --module esnext --moduleResolution bundler --strict --skipLibCheck && \
		mv ../internal/edge/dist/browser/react.d.ts ../internal/edge/dist/browser/greenlever-react.d.ts && touch ../internal/edge/dist/browser/greenlever.js

console: internal/manage/dist/app/index.html internal/edge/dist/browser/greenlever.js

bin/greenlever: internal/manage/dist/app/index.html internal/edge/dist/browser/greenlever.js $(GO_FILES)
	@go build -o $@ ./cmd/greenlever && touch $@

# The server's programs alone: the whole package would also start a server for the machine.
tools:
	@scripts/need.sh mariadbd=mariadb-server-core my_print_defaults=mariadb-client-core

tools-test: tools
	@scripts/need.sh chromium=chromium mariadb-dump=mariadb-client python3=python3 gcc="gcc libc6-dev"

check: build
	@echo "checking ..."
	@test -z "$$(gofmt -l $$(git ls-files -co --exclude-standard '*.go'))" || { echo "not formatted:"; gofmt -l .; exit 1; }
	@go vet -tags galera ./internal/accept
	@for m in $(MODULES); do (cd $$m && go vet ./... && go tool -modfile=$(CURDIR)/go.mod staticcheck ./...) || exit 1; done
	@cd console && npx --no-install tsc --noEmit && npx --no-install oxlint --deny-warnings src browser

test: build tools-test check
	@scripts/test.sh $(MODULES)

bench: build tools
	@go run ./internal/bench

sim: build tools
	@cd core && GREENLEVER_SIM=1 go test ./evidence -run 'Pipeline|SampleRatio|Sooner' -v -count=1 -timeout 4h | grep -v '^=== '
	@GREENLEVER_SIM=1 go test ./internal/sim ./internal/server -run 'TestTheStory|TestEvidenceSurvives' -v -count=1 -timeout 4h | grep -v '^=== '

storm: build tools-test
	@GREENLEVER_STORM=$${GREENLEVER_STORM:-10m} go test ./internal/accept -run 'TestStorm$$' -v -timeout 24h

# The storm on a cluster of three.
test-galera: build tools-test
	@scripts=$$(scripts/galera.sh) && PATH=$$scripts:$$PATH GREENLEVER_STORM=$${GREENLEVER_STORM:-2m} go test -tags galera ./internal/accept -run 'TestStormOnGalera$$' -v -timeout 24h

clean:
	@rm -rf bin console/node_modules console/src/api/schema.d.ts internal/manage/dist/app internal/edge/dist/browser
