# Everything a newcomer needs: make demo, make test.
PORT    ?= 8080
VERSION := $(shell git describe --always --dirty 2>/dev/null || echo dev)
WEB     := $(shell find web/src web/public web/index.html web/vite.config.ts web/package.json -type f 2>/dev/null)
DIST    := internal/server/api/site/dist/index.html

.PHONY: demo demo-reset build test test-quiet test-live test-core test-servers test-kernels test-pages lint lab planes soak deb mutate notices bench fuzz shots api tools test-tools clean

# A private database, the demo estate in it, and the server on 127.0.0.1.
demo: tools build
	@exec bin/wideknot demo --listen 127.0.0.1:$(PORT)

# Forgets everything the demo keeps: its database and its keys.
demo-reset:
	rm -rf var

build: bin/wideknot

bin/wideknot: $(DIST) $(shell find cmd core internal examples -type f -not -path '*/testdata/*' -not -path '*/site/dist/*' -not -name '*_test.go' 2>/dev/null)
	go build -ldflags "-X main.version=$(VERSION)" -o $@ ./cmd/wideknot

$(DIST): web/node_modules/.package-lock.json $(WEB)
	cd web && npm run --silent build

# Not npm ci: it refuses a lock file without the packages of other platforms,
# which is how npm writes it here. The versions are the lock file's all the same.
web/node_modules/.package-lock.json: web/package-lock.json
	cd web && npm install --no-save --no-audit --no-fund --loglevel=error
	@touch $@

# The front end's types follow from the API; run this after changing it.
api:
	go run ./cmd/wideknot openapi > docs/openapi.json
	go run ./cmd/wideknot schema > docs/estate.schema.json
	cd web && npm run --silent api

# The licences of what is built in; run this after adding or updating a package.
notices: web/node_modules/.package-lock.json
	go run ./notices > cmd/wideknot/notices.txt.new
	mv cmd/wideknot/notices.txt.new cmd/wideknot/notices.txt

lint: web/node_modules/.package-lock.json
	@test -z "$$(gofmt -l cmd core internal lab mutate notices golden e2e examples)" || { gofmt -l cmd core internal lab mutate notices golden e2e examples; echo "run gofmt -w on these"; exit 1; }
	go vet ./...
	cd web && npm run --silent lint && npm run --silent check && npm run --silent lint:api

test: test-tools build lint
	shellcheck -e SC2016 scripts/install core/render/linux/apply.sh packaging/build packaging/debian/postinst packaging/debian/prerm packaging/debian/postrm
	go run ./cmd/wideknot openapi | diff -q - docs/openapi.json || { echo "docs/openapi.json is out of date; run make api"; exit 1; }
	go run ./notices | diff -q - cmd/wideknot/notices.txt || { echo "cmd/wideknot/notices.txt is out of date; run make notices"; exit 1; }
	$(MAKE) --no-print-directory -j2 test-quiet test-live

# What only computes gives way to what waits for something, and is timed.
test-quiet:
	nice -n 19 $(MAKE) --no-print-directory test-core fuzz
test-live: test-servers
	$(MAKE) --no-print-directory deb && lintian --fail-on error --allow-root dist/*.deb
	$(MAKE) --no-print-directory test-kernels
	$(MAKE) --no-print-directory test-pages
test-core:
	go test $$(go list ./core/... | grep -v /render/linux)
	CGO_ENABLED=1 go test -race -short ./core/...
test-servers:
	CGO_ENABLED=1 go test -p 4 -race -short ./internal/... ./cmd/... ./examples/...
test-kernels:
	go test -count=1 -p 2 -parallel 4 ./lab ./internal/fleet ./core/render/linux
test-pages:
	go test -count=1 -parallel 4 ./e2e/...

# Each parser, as many inputs as FUZZTIME says; a longer run, such as 10m, finds
# more. The default counts, as a run that is ended by the clock fails now and then.
FUZZTIME ?= 10000x
fuzz:
	@log=$$(mktemp); trap 'rm -f "$$log"' EXIT; for target in $$(grep -rhoE '^func (Fuzz[A-Za-z]+)' --include=*_test.go core internal | sed 's/func //' | sort -u); do \
		package=$$(grep -rlE "^func $$target\(" --include=*_test.go core internal | head -n 1 | xargs dirname); \
		go test ./$$package -run '^$$' -fuzz "^$$target\$$" -fuzztime $(FUZZTIME) -fuzzminimizetime 10x > "$$log" 2>&1 \
			&& echo "ok  	$$package	$$target" || { cat "$$log"; exit 1; }; \
	done

# Brings random estates up in network namespaces and compares what packets do
# with what is predicted of them: make lab SEEDS=0-299. Needs root.
SEEDS ?= 0-19
lab: test-tools
	go run ./lab -seeds $(SEEDS)

# Lets hosts of random estates say the same on kernels and on stand-ins, and compares what
# arrives: make planes SEEDS=0-39. Needs root.
planes: test-tools
	go run ./lab -planes -seeds $(SEEDS) -parallel 3

# Lets random faults happen to an estate of agents: make soak FOR=30m SEED=0. Needs root.
FOR ?= 30m
soak: test-tools
	go run ./lab -soak $(FOR) -seeds $(SEED)-$(SEED)
	go test -count=1 ./internal/gateway/kernel -run Killed -kills 200

# Makes small wrong changes to rules in core and asks whether a test notices:
# make mutate MUTANTS=200 SEED=7. Needs root, as the tests of bundles do.
MUTANTS ?= 60
SEED ?= 1
mutate: test-tools
	go run ./mutate -n $(MUTANTS) -seed $(SEED)

# A Debian package for server and gateway, in dist/.
deb: $(DIST)
	rm -f dist/*.deb
	CGO_ENABLED=0 go build -trimpath -ldflags "-s -w -X main.version=$(VERSION)" -o dist/wideknot ./cmd/wideknot
	packaging/build dist/wideknot "$(VERSION)" dist

bench:
	go test -run '^$$' -bench . -benchmem ./core/...

# Takes the pictures of docs/screenshots from a demo that is running.
shots:
	go run ./e2e/shots -url http://127.0.0.1:$(PORT)

# What runs need of Debian's packages, and what tests need besides.
tools:
	@scripts/install mariadb-server
test-tools:
	@command -v $${CC:-cc} >/dev/null || scripts/install gcc libc6-dev # for the race detector
	@scripts/install mariadb-server chromium wireguard-go wireguard-tools nftables iproute2 iputils-ping procps libyang2-tools libyuma-base curl patch fonts-dejavu-core charon-systemd strongswan-swanctl libstrongswan-standard-plugins libcharon-extra-plugins shellcheck lintian systemd

clean:
	rm -rf bin dist internal/server/api/site/dist web/node_modules
