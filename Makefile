# make demo and make test are all that a newcomer needs.
.PHONY: demo demo-cluster test build check bench screenshots docs setup clean

STATICCHECK := honnef.co/go/tools/cmd/staticcheck@v0.8.2
# Not ./...: the console's packages bring Go files of their own.
PACKAGES := ./cmd/... ./client/... ./internal/... ./scripts/... ./test/...
CONSOLE := internal/door/console/dist/index.html
CONSOLE_FILES := $(shell find web/src web/public web/index.html web/vite.config.ts web/package-lock.json -type f 2>/dev/null)
GO_FILES := $(shell find . -name '*.go' -not -path './web/*') go.mod go.sum internal/door/api/openapi.yaml $(wildcard internal/engine/catalog/migrations/*.sql)

demo: build
	@./bin/ferryd demo -dir .demo $(ARGS)

demo-cluster: build
	@./bin/ferryd demo -nodes 3 -dir .demo-cluster $(ARGS)

# Tests that compare how long things take have the machine for themselves.
ALONE = TestAttacksDoNotBringANodeDown

test: export FERRY_BIN = $(CURDIR)/bin
test:
	@scripts/setup tests
	@$(MAKE) --no-print-directory build
	npm --prefix web test --silent
	go test -race -p 4 ./cmd/... ./client/... ./internal/... ./scripts/...
	go test ./internal/core/expr
	go test -p 2 -timeout 40m -skip '$(ALONE)' ./test/...
	go test -timeout 10m -run '$(ALONE)' ./test

build: bin/ferryd

bin/ferryd: $(CONSOLE) $(GO_FILES)
	@mkdir -p bin
	go build -o bin/ ./cmd/...

$(CONSOLE): $(CONSOLE_FILES)
	@scripts/setup
	npm --prefix web run --silent build -- --logLevel warn

check:
	@scripts/setup
	@$(MAKE) --no-print-directory build
	@test -z "$$(gofmt -l cmd client internal scripts test)" || { gofmt -l cmd client internal scripts test; echo "run gofmt -w on these"; exit 1; }
	go vet $(PACKAGES)
	go run $(STATICCHECK) $(PACKAGES)
	npm --prefix web run --silent lint
	npm --prefix web run --silent format

bench: build
	go run ./scripts/bench $(ARGS)

docs:
	@scripts/setup
	go test ./internal/door/api -run TestTheDocumentHasTheSettings -update
	npm --prefix web run --silent types
	go run ./scripts/httpdoc > docs/http.md
	@$(MAKE) --no-print-directory build
	./bin/ferry help -markdown > docs/commands.md

# Beside a running make demo-cluster, of which it ends one node.
screenshots: build
	@scripts/setup pictures
	FERRY_TOKEN=$$(cat .demo-cluster/node-a/owner.token) go run ./scripts/screenshots -kill .demo-cluster/node-b/ferryd.lock

setup:
	@scripts/setup

clean:
	rm -rf bin .demo .demo-cluster internal/door/console/dist/assets internal/door/console/dist/*.html internal/door/console/dist/*.js internal/door/console/dist/*.svg
