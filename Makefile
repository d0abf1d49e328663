# Everything that is done with this project. `make demo` and `make test` are all that a
# newcomer needs; they want Go, Node and git.
SHELL := /bin/bash
.ONESHELL:
.SHELLFLAGS := -eu -o pipefail -c
.DELETE_ON_ERROR:

GO      := CGO_ENABLED=0 go
# The version is that of the newest entry of the changelog.
VERSION := $(shell sed -n 's/^## \([0-9.]*\).*/\1/p' CHANGELOG.md | head -1)
COMMIT  := $(shell git rev-parse --short HEAD 2> /dev/null)
LDFLAGS := -s -w -X wardicon/cli.Version=$(VERSION) -X wardicon/cli.Commit=$(COMMIT)
SOURCES := $(shell find api cmd cli client core demo httpapi mailer metrics nameserver probe recipient service simulate store console/embed.go -name '*.go' -o -name '*.sql' -o -name '*.tmpl' -o -name '*.ps1' -o -name '*.sh' -o -name '*.pem' -o -name '*.html' -o -name '*.css' -o -name '*.js' -o -name '*.json') go.mod go.sum
WEB     := $(shell find console/src console/public -type f -not -name schema.d.ts) console/index.html console/vite.config.ts console/package-lock.json

.PHONY: build demo test lint check-corpus docs bench clean format shots

build: bin/wardicon

# The packages of the console, as its lock file has them.
console/node_modules/.package-lock.json: console/package-lock.json
	cd console && npm ci --no-progress

# The API describes itself; the console's types are made from that.
bin/openapi.stamp: $(SOURCES)
	mkdir -p bin
	$(GO) run -trimpath ./cmd/wardicon service openapi > bin/openapi.new
	if cmp -s bin/openapi.new bin/openapi.json; then rm bin/openapi.new; else mv bin/openapi.new bin/openapi.json; fi
	touch $@

# It is newer only where the API has changed, so that the console is built again only then.
bin/openapi.json: bin/openapi.stamp
	@:

console/src/api/schema.d.ts: bin/openapi.json console/node_modules/.package-lock.json
	cd console && npm run --silent types

console/dist/index.html: $(WEB) console/src/api/schema.d.ts
	cd console && npm run --silent build

bin/wardicon: $(SOURCES) console/dist/index.html
	$(GO) build -trimpath -ldflags '$(LDFLAGS)' -o $@ ./cmd/wardicon

# A service with sample data; ONCE=1 goes the whole way once and ends.
demo: build
	bin/wardicon demo $(if $(ONCE),--once)

# Tools that tests use where they can be had: a browser, other projects' parsers, and the
# daemons and clients that parcels are proven with. As root they are installed; no service
# is started by that.
.PHONY: tools
tools:
	@need=""
	want() { [ -e "$$1" ] || need="$$need $$2"; }
	want /usr/bin/chromium chromium
	want /usr/bin/xmllint libxml2-utils
	want /usr/bin/plistutil libplist-utils
	want /usr/bin/nmcli network-manager
	want /usr/bin/dbus-daemon dbus
	want /usr/sbin/openvpn openvpn
	want /usr/sbin/swanctl strongswan-swanctl
	want /usr/sbin/charon-systemd charon-systemd
	want /usr/lib/ipsec/charon strongswan-charon
	want /usr/sbin/ipsec strongswan-starter
	want /usr/lib/ipsec/charon-nm strongswan-nm
	want /usr/lib/ipsec/plugins/libstrongswan-openssl.so libstrongswan-standard-plugins
	want /usr/lib/ipsec/plugins/libstrongswan-eap-mschapv2.so libcharon-extauth-plugins
	want /usr/lib/ipsec/plugins/libstrongswan-kernel-libipsec.so libcharon-extra-plugins
	want /usr/lib/ipsec/plugins/libstrongswan-curve25519.so libstrongswan-extra-plugins
	want /usr/lib/NetworkManager/nm-openvpn-service network-manager-openvpn
	want /usr/lib/NetworkManager/VPN/nm-strongswan-service.name network-manager-strongswan
	want /usr/lib/NetworkManager/nm-l2tp-service network-manager-l2tp
	want /usr/lib/NetworkManager/nm-pptp-service network-manager-pptp
	want /usr/lib/NetworkManager/nm-sstp-service network-manager-sstp
	want /usr/sbin/pppd ppp
	want /usr/sbin/xl2tpd xl2tpd
	want /usr/sbin/pptpd pptpd
	want /usr/sbin/pptp pptp-linux
	want /usr/sbin/sstpc sstp-client
	want /usr/bin/slirp-fullbolt slirp
	want /usr/sbin/nft nftables
	want /usr/sbin/nginx nginx-light
	want /usr/bin/ping iputils-ping
	command -v ip > /dev/null || need="$$need iproute2"
	want /usr/bin/zbarimg zbar-tools
	want /usr/bin/pdftotext poppler-utils
	want /usr/bin/7z p7zip-full
	if [ -n "$$need" ] && [ "$$(id -u)" = 0 ] && command -v apt-get > /dev/null; then
		echo "Installing what the tests use:$$need"
		if [ ! -e /usr/sbin/policy-rc.d ]; then
			trap 'rm -f /usr/sbin/policy-rc.d' EXIT
			printf '#!/bin/sh\nexit 101\n' > /usr/sbin/policy-rc.d
			chmod +x /usr/sbin/policy-rc.d
		fi
		apt-get update -qq
		DEBIAN_FRONTEND=noninteractive apt-get install -y -qq --no-install-recommends $$need > /dev/null
	elif [ -n "$$need" ]; then
		echo "Tests that need$$need are skipped: install them as root."
	fi

FUZZTIME ?= 6s

# Gateways are asked that are the real daemons of Debian, in a network of their own; without root it says what it skipped.
.PHONY: test-peers
test-peers: tools
	go test -count=1 -v -run TestPeers ./probe | grep -v '^=== '

# Parcels are connected with by real clients, against real daemons, in networks of their
# own; without root it says what it skipped, and why.
.PHONY: test-connect
test-connect: build tools
	go test -count=1 -v ./e2e/connect | sed -n '/^=== /d; /^ *--- /p; /skipped/p; /^FAIL/p; /^ok/p; /_test.go:/p'

test: build tools
	go test -timeout 20m -parallel 4 ./... # most of the time tests wait for pages and for silence
	go test -race -short -run 'TestTogether|TestRecheck|TestVersions|TestPasscodeGuessed' ./e2e ./store ./service
	go test -run '^$$' -fuzz FuzzRead -fuzztime $(FUZZTIME) -fuzzminimizetime 1s ./core/format/all
	go test -run '^$$' -fuzz FuzzOpen -fuzztime $(FUZZTIME) -fuzzminimizetime 1s ./core/pki
	go test -run '^$$' -fuzz FuzzRead -fuzztime 3s -fuzzminimizetime 1s ./core/explain
	for wire in ikev1:FuzzDecode ikev2:FuzzDecode l2tp:FuzzDecode pptp:FuzzDecode sstp:FuzzDecode ppp:FuzzDecode tlstunnel:FuzzOpen; do go test -run '^$$' -fuzz $${wire#*:} -fuzztime 3s -fuzzminimizetime 1s ./core/wire/$${wire%:*}; done
	go test -run '^$$' -fuzz FuzzReceive -fuzztime 3s -fuzzminimizetime 1s ./core/session/ppp
	go test -run '^$$' -fuzz FuzzOf -fuzztime 3s -fuzzminimizetime 1s ./core/signature
	go test -run '^$$' -fuzz FuzzCheck -fuzztime $(FUZZTIME) -fuzzminimizetime 1s ./core/filecheck
	go test -run '^$$' -fuzz FuzzReadCard -fuzztime $(FUZZTIME) -fuzzminimizetime 1s ./core/card

lint: build
	test -z "$$(gofmt -l $$(git ls-files '*.go'))" || { gofmt -l $$(git ls-files '*.go'); exit 1; }
	go vet ./...
	go tool staticcheck ./...
	go mod tidy -diff
	cd console && npm run --silent check

format: console/node_modules/.package-lock.json
	gofmt -w $$(git ls-files '*.go')
	cd console && npm run --silent format

# What the rules find in a collection of faults, miss in it, and find in sound files.
check-corpus:
	go test -count=1 -v -run 'TestFaults|TestClean' ./core/corpus | sed -n 's/^ *[a-z]*_test.go:[0-9]*: //p; /^FAIL/p; /^ok/p'

# Documents that are made from the code.
docs:
	WARDICON_WRITE=1 go test -count=1 -run TestDocument ./core/check

bench: build
	WARDICON_BENCH=1 WARDICON_BENCH_DEVICES=$(DEVICES) go test -timeout 60m -v -count=1 ./bench

# Pictures of every page, into a folder outside the project.
shots: build tools
	mkdir -p "$${DIR:?name a folder: make shots DIR=...}"
	WARDICON_SHOTS="$$(realpath "$$DIR")" go test -count=1 -run 'TestPages|TestCard|TestFirstProfile|TestFindingsPages|TestBoard|TestRecipientTypes|TestReports|TestGatewayAnswers' ./e2e

clean:
	rm -rf bin console/node_modules console/src/api/schema.d.ts console/components.d.ts
	cd console && find dist -mindepth 1 -not -name .keep -delete
