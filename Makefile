# The two commands of a newcomer are "make demo" and "make test". Both install
# what is missing (Debian packages, npm packages, Go modules) and build first.

CONSOLE = console/dist/index.html
STAMP = console/node_modules/.installed

# What runs on several goroutines at once is tested with the race detector: RACED only so, for these tests have no longer run
# that -short leaves out.
RACED = $(addprefix ./service/,accounts cluster custody front hooks jobs live mail notices receive recordings sittings store vault wellformed) ./service \
	./core/guard ./core/ask ./core/question
CONCURRENT = $(RACED) ./core/replay/... ./core/timeline

.PHONY: demo test test-recorder truth bench bench-service bench-quick mutants build lint fuzz clean needs needs-test

demo: needs build
	go build -o bin/demo ./demo/start
	bin/demo

# Without a cache of results: what some tests look at (the import graph, programs
# built on the spot) is not among what go test knows a result to depend on.
test: needs-test build
	go test -count=1 -timeout 14m $$(go list ./... | grep -vxF "$$(go list $(RACED))")
	cd demo/berthing && go test ./...
	cd console && npm run --silent test
	go test -race -short -count=1 -timeout 10m $(CONCURRENT)

# Runs the tests of public modules recorded, and reads dumps of older Go releases;
# needs the module proxy.
test-recorder:
	WRAITH_TEST_MODULES=1 go test -count=1 -timeout 30m -run TestPublicModules -v ./recorder
	WRAITH_TEST_MODULES=1 go test -count=1 -run TestOlderGo ./core/evidence/kinds/coredump

# Compares recordings with what the programs really had: 1,000 generated programs; core dumps with what the programs printed:
# 250 of each of C, optimised C, C++, Rust and Go; and logs with the records that were written: 1,000,000 records;
# and 204 random calls of the demo and of public modules with what they do when they are made again (needs the module proxy).
truth:
	WRAITH_TRUTH=1000 go test -count=1 -timeout 60m -run TestGeneratedStatements -v ./recorder
	WRAITH_TRUTH=250 go test -count=1 -timeout 60m -run 'Test(Generated|Optimised).*(Tell|Tells)TheTruth' ./core/evidence/kinds/coredump
	WRAITH_TRUTH=1000 go test -count=1 -run TestLayouts ./core/evidence/kinds/structuredlog
	WRAITH_TRUTH=1 go test -count=1 -timeout 30m -run 'TestWrongInput|TestHostileRequests' ./e2e ./service/httpapi
	WRAITH_DEFECTS=60 go test -count=1 -timeout 60m -run TestCausesOfDefects -v ./recorder
	WRAITH_REPRODUCE=34 go test -count=1 -timeout 60m -run TestCallsOfPublicModules -v ./reproduce

# Measures against the targets in docs/figures.md; writes bench.json.
bench:
	go run ./bench

# What people who work together wait for, against the targets in docs/figures.md; and 100 hard kills while they work.
bench-service: needs-test build
	go run ./bench -only team,questions,mischief,notices,editor -json bench-service.json
	WRAITH_KILLS=100 go test -count=1 -timeout 60m -run TestKilledWhilePeopleWork -v ./e2e

bench-quick:
	go run ./bench -quick

# Measures whether the tests notice small faults in a sample of the code: 20 minutes
# on an otherwise idle machine. The figures are in docs/figures.md.
mutants: needs-test $(CONSOLE)
	go run ./scripts/mutants

build: $(CONSOLE)
	go build -o bin/ ./cmd/...

lint: $(CONSOLE)
	scripts/lint

# Fuzzes each parser of untrusted bytes for a short while; the seeds run in "make test".
fuzz:
	go test -run '^$$' -fuzzminimizetime 10x -fuzz FuzzFile -fuzztime 20s ./core/expectations
	go test -run '^$$' -fuzzminimizetime 10x -fuzz FuzzSession -fuzztime 30s ./editor
	go test -run '^$$' -fuzzminimizetime 10x -fuzz FuzzHTML -fuzztime 10s ./service/markdown
	go test -run '^$$' -fuzzminimizetime 10x -fuzz FuzzLog -fuzztime 30s ./core/execlog
	go test -run '^$$' -fuzzminimizetime 10x -fuzz FuzzRecording -fuzztime 30s ./core/replay
	go test -run '^$$' -fuzzminimizetime 10x -fuzz FuzzPath -fuzztime 10s ./core/replay
	go test -run '^$$' -fuzzminimizetime 10x -fuzz FuzzQuick -fuzztime 30s ./core/question
	go test -run '^$$' -fuzzminimizetime 10x -fuzz FuzzLocator -fuzztime 10s ./core/locator
	go test -run '^$$' -fuzzminimizetime 10x -fuzz FuzzTraceback -fuzztime 30s ./core/traceback
	go test -run '^$$' -fuzzminimizetime 10x -fuzz FuzzOTLP -fuzztime 30s ./core/evidence/kinds/eventtrace
	go test -run '^$$' -fuzzminimizetime 10x -fuzz FuzzLog -fuzztime 30s ./core/evidence/kinds/structuredlog
	for target in FuzzCore FuzzELF FuzzUnwind FuzzLocation FuzzAddressMaps; do go test -run '^$$' -fuzzminimizetime 10x -fuzz "^$$target\$$" -fuzztime 30s ./core/evidence/kinds/coredump || exit 1; done

needs:
	scripts/needs postgresql git gcc

needs-test:
	scripts/needs postgresql git chromium gcc g++ libc++-dev libc++abi-dev dwz gcc-aarch64-linux-gnu qemu-user-static

$(STAMP): console/package-lock.json
	cd console && npm ci --no-audit --no-fund --loglevel error
	touch $(STAMP)

# Sources of the console, and of the API's description that its types are made from.
$(CONSOLE): $(STAMP) console/index.html console/vite.config.ts console/tsconfig.json $(shell find console/src console/public -type f -not -name schema.d.ts) $(shell find api client core service/httpapi -name '*.go' -not -name '*_test.go')
	go run ./cmd/wraithd describe > console/openapi.json
	cd console && npm run --silent types >/dev/null && find dist -mindepth 1 -not -name placeholder.html -delete && npm run --silent build

clean:
	rm -rf bin .demo console/node_modules
	find console/dist -mindepth 1 -not -name placeholder.html -delete
