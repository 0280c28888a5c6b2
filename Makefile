# Hen Roost. Each target installs what it needs and says so; the second time it is quick.
# The demo, the tests and the benchmarks start real hosts in namespaces: run them as root.
.PHONY: build demo demo-reset test bench lint system console clean

VERSION := $(shell git describe --tags --always --dirty 2>/dev/null || echo dev)
PACKAGES := mariadb-server galera-4 rsync lsof postgresql slapd ldap-utils sudo openssh-server \
	openssh-client busybox-static dropbear-bin cron chromium fonts-dejavu-core
NODE_MODULES := web/node_modules/.package-lock.json
CONSOLE := web/dist/index.html
GO_FILES := $(shell find cmd internal demo web -name '*.go' -o -name '*.sh' -o -name '*.sql' -o -name '*.ldif' | grep -v node_modules) $(wildcard demo/declaration/* demo/found/*) go.mod

build: bin/roost

bin/roost: $(GO_FILES) $(CONSOLE)
	@echo "building bin/roost"
	@go build -trimpath -ldflags '-X main.version=$(VERSION)' -o $@ ./cmd/roost

$(NODE_MODULES): web/package-lock.json
	@echo "installing the console's packages (npm)"
	@cd web && npm ci --silent --no-fund --no-audit
	@touch $@

$(CONSOLE): $(NODE_MODULES) $(shell find web/src web/index.html web/*.json web/*.ts web/*.js -type f 2>/dev/null)
	@echo "building the console"
	@cd web && npm run --silent build -- --logLevel warn
	@touch $@ web/dist/.keep

console: $(CONSOLE)

# Debian packages: the systems that the demo and the tests run against.
system:
	@need=""; for p in $(PACKAGES); do dpkg-query -W -f '$${Status}' $$p 2>/dev/null | grep -q 'ok installed' || need="$$need $$p"; done; \
	if [ -n "$$need" ]; then echo "installing Debian packages:$$need"; \
	  printf '#!/bin/sh\nexit 101\n' >/usr/sbin/policy-rc.d && chmod +x /usr/sbin/policy-rc.d; \
	  apt-get update -qq && DEBIAN_FRONTEND=noninteractive apt-get install -y -qq --no-install-recommends $$need >/dev/null; rc=$$?; rm -f /usr/sbin/policy-rc.d; exit $$rc; fi

demo: system build
	@bin/roost demo --dir .cache/demo --listen 127.0.0.1:8460

demo-reset:
	@rm -rf .cache/demo && echo "the demo is forgotten"

test: system build
	@go vet ./...
	@LONG=1 go test -count=1 -parallel 8 -timeout 25m ./... # what Go remembers of a test knows nothing of the systems it ran against

bench: system build
	@go run ./bench $(if $(ONLY),--only $(ONLY))

lint: $(NODE_MODULES)
	@test -z "$$(gofmt -l cmd internal demo bench test web/*.go)" || { gofmt -l cmd internal demo bench test web/*.go; exit 1; }
	@go vet ./...
	@cd web && npm run --silent check

clean:
	@rm -rf bin .cache web/dist/* web/node_modules
