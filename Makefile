# Set-up, demo, tests, pictures. Every target works on a fresh Debian machine with Go and Node.js, as root or not.
STATICCHECK = honnef.co/go/tools/cmd/staticcheck@v0.8.2
CONSOLE = console/dist/index.html
STANDARD = internal/server/standard/node_modules

.PHONY: demo test test-service test-console thorough hostile check console setup setup-test screenshots bench clean

demo: bin/eager
	bin/eager demo

setup:
	@scripts/setup server

setup-test: setup $(STANDARD)/.package-lock.json
	@scripts/setup browser

# Independent readers of the standard, which tests hold the service against.
$(STANDARD)/.package-lock.json: internal/server/standard/package-lock.json
	cd internal/server/standard && npm ci --no-fund --no-audit --loglevel=error
	cd internal/server/standard/goclient && go mod download

console: $(CONSOLE)

$(CONSOLE): $(shell find console -path console/node_modules -prune -o -path console/dist -prune -o -type f -not -name schema.d.ts -not -name '*_test.go' -print) internal/server/manage.yaml
	cd console && npm ci --no-fund --no-audit --loglevel=error && npm run --silent build

bin/eager: $(CONSOLE) $(shell find cmd internal demo console -name '*.go' -o -name '*.sql' -o -name '*.yaml' -not -path '*/node_modules/*') $(wildcard internal/server/reference/* internal/core/describe/official/*) go.mod | setup
	go build -o bin/eager ./cmd/eager

GO_FOLDERS = bench browsertest cmd console/*.go demo internal

check: $(CONSOLE)
	@wrong=$$(gofmt -l $(GO_FOLDERS)); test -z "$$wrong" || { echo "$$wrong"; echo "run gofmt -w on these"; exit 1; }
	@! LC_ALL=C.UTF-8 grep -rnE --include='*.go' --exclude-dir=node_modules '^.{141,}' $(GO_FOLDERS) || { echo "break these lines: 140 columns"; exit 1; }
	go mod tidy -diff
	go vet ./...
	go run $(STATICCHECK) ./...
	cd browsertest && go mod tidy -diff && go vet ./... && go run $(STATICCHECK) ./...
	cd console && npm run --silent check

# TEST_ALL: what a bare checkout lacks fails its tests, where otherwise they are skipped.
test: setup-test check bin/eager
	@$(MAKE) --no-print-directory --jobs 2 --output-sync test-service test-console

test-service:
	TEST_ALL=1 go test -count=1 -timeout 15m ./...

test-console:
	cd browsertest && TEST_ALL=1 go test -count=1 -timeout 10m ./...

# What takes longer, for CI: packages that share state, under the race detector, and 20,000 inputs to each fuzz target (a time makes the engine fail now and then as it ends).
thorough: setup-test
	@scripts/setup race
	go test -race -count=1 -timeout 10m ./internal/postgres ./internal/records ./internal/service -skip TestCompatible
	TEST_ALL=1 go test -race -count=1 -timeout 10m ./internal/server -skip 'TestOracle|Differential|TestRandomWrites|TestAnything|TestClientLibraries|TestDrift|TestEditsKeep|TestVersionsKept|TestDoctor|TestUsedBy|TestAudit|TestPlanted|TestSuite|TestDemanded|TestLinters|TestGenerated|TestSnippets|TestHistory|TestDescription|TestTwoRoles|TestPagingWalk|TestConditionsAreBounded|TestKeysOfA|TestNothingLeaks|TestTypesInAndOut|TestRestOfIt'
	scripts/fuzz 20000x

# Requests that would break the service, for ten minutes.
hostile: setup-test
	HOSTILE=10m go test -count=1 -timeout 20m ./internal/server -run 'TestHostileRequests'

screenshots: setup-test bin/eager
	scripts/screenshots.sh

bench: setup $(CONSOLE)
	@scripts/setup bench
	go run ./bench

clean:
	rm -rf bin $(STANDARD) console/node_modules console/dist/assets console/dist/index.html
