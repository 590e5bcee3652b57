# Everything that is done with this project. A fresh machine needs Go, Node and make;
# make test installs Chromium from Debian's packages where it is missing.

# The race detector watches our code and all that we use but SQLite, whose C was made into Go that keeps its own memory:
# there it finds nothing and takes most of the time, as the checks of its pointers do. It must watch all that may hold
# instances of generic code: the linker keeps one of each, for everybody.
RACE := $(shell command -v gcc >/dev/null 2>&1 && \
	echo "-race -gcflags=modernc.org/...=-d=checkptr=0 '-gcflags=modernc.org/sqlite/lib=-race=false -d=checkptr=0'")
SUDO := $(shell [ "$$(id -u)" = 0 ] || echo sudo)

.PHONY: build demo test soak lint bench openapi clients shots clean

# The binary with the console in it.
build: bin/innerladder

bin/innerladder: web/dist/index.html $(shell find cmd internal web -name '*.go' -o -name '*.sql' | grep -v node_modules) go.mod
	go build -o $@ ./cmd/innerladder

# The console's packages, exactly as locked.
web/node_modules/.package-lock.json: web/package.json web/package-lock.json
	cd web && npm ci --no-audit --no-fund --loglevel=error
	@touch $@

web/dist/index.html: web/node_modules/.package-lock.json docs/openapi.json $(shell find web/src web/public -type f ! -name schema.d.ts) web/index.html web/vite.config.ts web/tsconfig.json
	cd web && npm run --silent build
	@touch $@

# Play the whole job with made-up data. Ctrl-C ends it.
demo: build
	./bin/innerladder demo

# Every test, the console in a real browser and servers of other makers included.
# The core has no goroutines (a test of its own says so), so there is nothing to race in its simulations, which the race
# detector would make several times longer. Whole services under traffic have the machine for themselves, in the last step:
# what crowds it changes the latency that their guards judge by.
test: web/dist/index.html browser foreign
	@status=0; \
	go test -timeout 15m ./internal/core/... || status=1; \
	CONSOLE=needed FOREIGN=needed go test $(RACE) -timeout 15m \
		$$(go list ./... | grep -v -e /internal/core -e 'innerladder/test$$') || status=1; \
	CONSOLE=needed FOREIGN=needed go test $(RACE) -timeout 15m ./test || status=1; \
	exit $$status

# What takes longer: crowds, kills, whole days.
soak: web/dist/index.html foreign
	SOAK=1 FOREIGN=needed go test -timeout 240m -run 'Soak|ThroughADay' -v ./internal/... ./test

.PHONY: browser foreign
browser:
	@command -v chromium >/dev/null 2>&1 || [ -n "$$CHROMIUM" ] || \
		{ echo "installing Chromium from Debian's packages"; $(SUDO) apt-get update -q && $(SUDO) apt-get install -y -q --no-install-recommends chromium; }

# Servers, clients and readers of other makers, which ours are tried with, and files for them.
foreign:
	@missing=""; for p in nginx:nginx-light python3:python3 curl:curl promtool:prometheus; do \
		command -v $${p%%:*} >/dev/null 2>&1 || [ -x /usr/sbin/$${p%%:*} ] || missing="$$missing $${p#*:}"; done; \
	[ -d /usr/share/libonnx-testdata ] || missing="$$missing libonnx-testdata"; \
	[ -d /usr/lib/python3/dist-packages/onnx ] || missing="$$missing python3-onnx"; \
	[ -d /usr/lib/python3/dist-packages/prometheus_client ] || missing="$$missing python3-prometheus-client"; \
	[ -z "$$missing" ] || { echo "installing$$missing from Debian's packages"; $(SUDO) apt-get update -q && $(SUDO) apt-get install -y -q --no-install-recommends $$missing; }

lint: web/dist/index.html
	@unformatted=$$(gofmt -l $$(git ls-files '*.go'); go tool gofumpt -l $$(git ls-files '*.go')) && test -z "$$unformatted" || { echo "not formatted:"; echo "$$unformatted"; exit 1; }
	go vet ./...
	go tool staticcheck ./...
	cd web && npx --no-install tsc --noEmit && npx --no-install eslint . && npx --no-install prettier --check --log-level warn .
	cd web && REDOCLY_TELEMETRY=off REDOCLY_SUPPRESS_UPDATE_NOTICE=true npx --no-install redocly lint --config ../docs/redocly.yaml ../docs/openapi.json
	cd web && npx --no-install spectral lint --quiet --fail-severity=warn --ruleset ../docs/spectral.yaml ../docs/openapi.json

# What we measure against others, and how: bench/README.md.
bench: build
	./bench/run

# The OpenAPI document, from which the console's types are made.
openapi:
	go run ./cmd/innerladder openapi > docs/openapi.json.new && mv docs/openapi.json.new docs/openapi.json

# What the clients for Go, Python and TypeScript are made of.
clients: openapi
	go run ./clients/make
	cd web && npx --no-install openapi-typescript ../docs/openapi.json -o ../clients/typescript/schema.d.ts

# The pictures of the README, from a demo of their own.
shots: build browser
	./docs/take-screenshots

clean:
	rm -rf bin web/node_modules web/dist/assets web/dist/index.html web/dist/ladder.svg
