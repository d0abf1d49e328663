# Everything that is done with this project. `make demo` and `make test` are all that a
# newcomer needs; they need Go, Node.js and git. `make help` lists the targets.
SHELL := /bin/bash
.ONESHELL:
.SHELLFLAGS := -eu -o pipefail -c
.DELETE_ON_ERROR:

GO      := CGO_ENABLED=0 go
# The version is that of the newest entry of the changelog.
VERSION := $(shell sed -n 's/^## \([0-9.]*\).*/\1/p' CHANGELOG.md | head -1)
COMMIT  := $(shell git rev-parse --short HEAD 2> /dev/null)
LDFLAGS := -s -w -X wardicon/cli.Version=$(VERSION) -X wardicon/cli.Commit=$(COMMIT)
PACKAGES := api cmd cli client copies core demo httpapi mailer metrics nameserver pkcs11 probe recipient service simulate store trail
SOURCES := $(shell find $(PACKAGES) console/embed.go -type f -not -path '*/testdata/*' -not -name '*_test.go') go.mod go.sum
WEB     := $(shell find console/src console/public -type f -not -name schema.d.ts -not -name fields.json) \
	console/index.html console/vite.config.ts console/describe.mjs console/package-lock.json

.PHONY: build demo test lint check-corpus docs bench clean format shots

# What loads the modules of tokens (PKCS #11) is in C: it is built where gcc and the C library's headers are.
TOKENS := $(shell echo '\#include <stdlib.h>' | gcc -E - > /dev/null 2>&1 && echo bin/wardicon-pkcs11)

build: bin/wardicon $(TOKENS) ## build the program with its console

.PHONY: help
help: ## list the targets
	@sed -n 's/^\([a-z-]*\):[^#]*## \(.*\)/  \1\t\2/p' Makefile | sort | expand -t 20

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

console/src/api/schema.d.ts: bin/openapi.json console/describe.mjs console/node_modules/.package-lock.json
	cd console && npm run --silent types

console/dist/index.html: $(WEB) console/src/api/schema.d.ts
	cd console && npm run --silent build

bin/wardicon: $(SOURCES) console/dist/index.html
	$(GO) build -trimpath -ldflags '$(LDFLAGS)' -o $@ ./cmd/wardicon

bin/wardicon-pkcs11: $(SOURCES)
	mkdir -p bin
	CGO_ENABLED=1 go build -trimpath -ldflags '-s -w' -o $@ ./cmd/wardicon-pkcs11

# A service with sample data; ONCE=1 goes the whole way once and ends.
demo: build ## start a service with sample data; ONCE=1 runs a full example and ends
	bin/wardicon demo $(if $(ONCE),--once)

# Debian packages that tests use: the file that tells that one is there, the package, and what for. They are
# installed as root; no service is started by that.
define TOOLS
/usr/bin/gcc gcc race-detector
/usr/include/stdlib.h libc6-dev race-detector
/usr/bin/openssl openssl parsers
/usr/bin/chromium chromium browser
/usr/bin/xmllint libxml2-utils parsers
/usr/bin/plistutil libplist-utils parsers
/usr/bin/nmcli network-manager clients-and-gateways
/usr/bin/dbus-daemon dbus networks
/usr/sbin/openvpn openvpn clients-and-gateways
/usr/sbin/swanctl strongswan-swanctl clients-and-gateways
/usr/sbin/charon-systemd charon-systemd clients-and-gateways
/usr/lib/ipsec/charon strongswan-charon clients-and-gateways
/usr/sbin/ipsec strongswan-starter clients-and-gateways
/usr/lib/ipsec/charon-nm strongswan-nm clients-and-gateways
/usr/lib/ipsec/plugins/libstrongswan-openssl.so libstrongswan-standard-plugins clients-and-gateways
/usr/lib/ipsec/plugins/libstrongswan-eap-mschapv2.so libcharon-extauth-plugins clients-and-gateways
/usr/lib/ipsec/plugins/libstrongswan-kernel-libipsec.so libcharon-extra-plugins clients-and-gateways
/usr/lib/ipsec/plugins/libstrongswan-curve25519.so libstrongswan-extra-plugins clients-and-gateways
/usr/lib/NetworkManager/nm-openvpn-service network-manager-openvpn clients-and-gateways
/usr/lib/NetworkManager/VPN/nm-strongswan-service.name network-manager-strongswan clients-and-gateways
/usr/lib/NetworkManager/nm-l2tp-service network-manager-l2tp clients-and-gateways
/usr/lib/NetworkManager/nm-pptp-service network-manager-pptp clients-and-gateways
/usr/lib/NetworkManager/nm-sstp-service network-manager-sstp clients-and-gateways
/usr/sbin/pppd ppp clients-and-gateways
/usr/sbin/xl2tpd xl2tpd clients-and-gateways
/usr/sbin/pptpd pptpd clients-and-gateways
/usr/sbin/pptp pptp-linux clients-and-gateways
/usr/sbin/sstpc sstp-client clients-and-gateways
/usr/bin/slirp-fullbolt slirp networks
/usr/sbin/nft nftables networks
/usr/sbin/nginx nginx-light networks
/usr/sbin/haproxy haproxy networks
/usr/bin/certutil libnss3-tools clients-and-gateways
/usr/share/doc/libldns3/copyright libldns3 clients-and-gateways
/usr/share/doc/libevent-pthreads-2.1-7/copyright libevent-pthreads-2.1-7 clients-and-gateways
/usr/share/doc/libunbound8/copyright libunbound8 clients-and-gateways
/usr/bin/ping iputils-ping networks
/usr/sbin/rsyslogd rsyslog networks
/usr/bin/systemd-analyze systemd networks
/usr/lib/x86_64-linux-gnu/rsyslog/lmnsd_gtls.so rsyslog-gnutls networks
/usr/bin/pki strongswan-pki parsers
/usr/bin/promtool prometheus networks
/usr/bin/zbarimg zbar-tools parsers
/usr/bin/pdftotext poppler-utils parsers
/usr/sbin/slapd slapd directories
/usr/bin/ldapsearch ldap-utils directories
/usr/bin/curl curl networks
/usr/lib/python3/dist-packages/yaml/__init__.py python3-yaml parsers
/usr/lib/python3/dist-packages/jsonschema/__init__.py python3-jsonschema parsers
/usr/lib/python3/dist-packages/icalendar/__init__.py python3-icalendar parsers
/usr/bin/7z p7zip-full parsers
/usr/sbin/ip iproute2 networks
/usr/bin/softhsm2-util softhsm2 tokens
/usr/bin/pkcs11-tool opensc tokens
endef
export TOOLS

.PHONY: tools
tools: ## install the Debian packages that the tests use (as root)
	@need=""
	while read -r file package purpose; do
		[ -e "$$file" ] || need="$$need $$package($$purpose)"
	done <<< "$$TOOLS"
	# The second IKE daemon cannot be installed beside the first: it is unpacked for the tests alone.
	other=bin/peers/libreswan
	[ -e $$other ] || need="$$need libreswan(clients-and-gateways,unpacked)"
	if [ -z "$$need" ]; then
		exit 0
	fi
	if [ "$$(id -u)" != 0 ] || ! command -v apt-get > /dev/null; then
		echo "Not installed, so tests that use them are skipped:$$need. Run make tools as root on Debian."
		exit 0
	fi
	echo "Installing what the tests use:$$need"
	# No service is started: policy-rc.d forbids it, and is put back whatever happens.
	policy=/usr/sbin/policy-rc.d
	if [ -e $$policy ]; then cp -p $$policy $$policy.wardicon; fi
	trap 'rm -f '$$policy'; [ ! -e '$$policy'.wardicon ] || mv '$$policy'.wardicon '$$policy EXIT
	printf '#!/bin/sh\nexit 101\n' > $$policy
	chmod +x $$policy
	unpack() {
		mkdir -p bin/peers && cd bin/peers && apt-get download -qq libreswan 2> /dev/null &&
			dpkg-deb -x libreswan_*.deb libreswan && rm libreswan_*.deb
	}
	apt-get update -qq && DEBIAN_FRONTEND=noninteractive apt-get install -y -qq \
		--no-install-recommends $$(sed 's/libreswan([^)]*)//; s/([^)]*)//g' <<< "$$need") \
		> /dev/null && ([ -e $$other ] || unpack) ||
		echo "They could not be installed; tests that use them are skipped."

# Gateways are asked that are the real daemons of Debian, in a network of their own; without root it says what it skipped.
.PHONY: test-peers
test-peers: tools ## probe real gateways of Debian, in a network of their own
	go test -count=1 -v -run TestPeers ./probe | grep -v '^=== '

# Parcels are connected with by real clients, against real daemons, in networks of their
# own; without root it says what it skipped, and why.
.PHONY: test-connect
test-connect: build tools ## connect with real clients to real gateways (as root)
	go test -count=1 -v ./e2e/connect | sed -n '/^=== /d; /^ *--- /p; /skipped/p; /^FAIL/p; /^ok/p; /_test.go:/p'

# Where gcc is not there, nothing can be looked at by the race detector.
RACE := $(shell command -v gcc > /dev/null && echo -race)

# Decoders of what comes from outside, and how many inputs each gets: some seconds' worth. They are counted
# rather than timed, because a run that ends by the clock may report its own end as a failure.
define DECODERS
2000 FuzzRead core/format/all
15000 FuzzReadGateway core/format/daemons
15000 FuzzOpen core/pki
8000 FuzzOpenEnrolment core/pki
30000 FuzzStatusRequest core/pki
200 FuzzRead core/explain
9000 FuzzRead core/rows
40000 FuzzDecode core/wire/ikev1
40000 FuzzDecode core/wire/ikev2
60000 FuzzDecode core/wire/l2tp
50000 FuzzDecode core/wire/pptp
60000 FuzzDecode core/wire/sstp
40000 FuzzDecode core/wire/ppp
20000 FuzzOpen core/wire/tlstunnel
30000 FuzzReceive core/session/ppp
10000 FuzzGateway core/session/ikev2
30000 FuzzGateway core/session/tunnel
20000 FuzzHandle core/session/eap
60000 FuzzRead core/inside
20000 FuzzOf core/signature
400 FuzzCheck core/filecheck
1000 FuzzReadCard core/card
endef
export DECODERS
# FUZZ=100 looks a hundred times as long.
export FUZZ ?= 1

test: build tools ## run all tests, and say what was skipped
	# Most of the time tests wait for pages and for silence: three packages at once, six tests of each.
	go test -json -timeout 40m -p 3 -parallel 6 ./... | go run ./tools/testlog
	if [ -z "$(RACE)" ]; then echo "The race detector was skipped: gcc is not installed."; [ "$$CI" != true ]; fi
	[ -z "$(RACE)" ] || CGO_ENABLED=1 go test -race -short \
		-run 'TestTogether|TestRecheck|TestVersions|TestPasscodeGuessed' ./e2e ./store ./service
	while read -r runs target folder; do
		go test -run '^$$' -fuzzminimizetime 1s -fuzz "^$$target\$$" -fuzztime "$$((runs * FUZZ))x" "./$$folder" < /dev/null
	done <<< "$$DECODERS"

lint: build ## formatters, vet, static analysis, types of the console
	test -z "$$(gofmt -l $$(git ls-files '*.go'))" || { gofmt -l $$(git ls-files '*.go'); exit 1; }
	go vet ./...
	go tool staticcheck ./...
	go mod tidy -diff
	cd console && npm run --silent check

format: console/node_modules/.package-lock.json ## run the formatters
	gofmt -w $$(git ls-files '*.go')
	cd console && npm run --silent format

# What the rules find in a collection of faults, miss in it, and find in sound files.
check-corpus: ## what the rules find and miss in the collection of files
	go test -count=1 -v -run 'TestFaults|TestClean' ./core/corpus | sed -n 's/^ *[a-z]*_test.go:[0-9]*: //p; /^FAIL/p; /^ok/p'

# Documents that are made from the code.
docs: ## write the documents that are made from the code
	WARDICON_WRITE=1 go test -count=1 -run TestDocument ./core/check

bench: build ## benchmarks, as ratios to baselines of the same run; ONLY=files for one part
	WARDICON_BENCH=1 WARDICON_BENCH_ONLY=$(ONLY) WARDICON_BENCH_DEVICES=$(DEVICES) go test -timeout 60m -v -count=1 ./bench

# Pictures of every page, into a folder outside the project.
shots: build tools ## pictures of every page, into DIR
	mkdir -p "$${DIR:?name a folder: make shots DIR=...}"
	WARDICON_SHOTS="$$(realpath "$$DIR")" go test -count=1 -run 'TestPages|TestCard|TestFirstProfile|TestFindingsPages|TestBoard|TestRecipientTypes|TestReports|TestGatewayAnswers|TestLived|TestGerman|TestSearchBar|TestTasks' ./e2e

# Static binaries with checksums and a software bill of materials. The same source gives the same bytes.
RELEASE := bin/release
.PHONY: release
release: build ## static binaries, checksums and a software bill of materials
	rm -rf $(RELEASE) && mkdir -p $(RELEASE)
	for arch in amd64 arm64; do
		GOOS=linux GOARCH=$$arch $(GO) build -trimpath -ldflags '$(LDFLAGS)' \
			-o $(RELEASE)/wardicon-$(VERSION)-linux-$$arch ./cmd/wardicon
	done
	SOURCE_DATE_EPOCH=$$(git log -1 --format=%ct) $(GO) run ./tools/sbom \
		$(RELEASE)/wardicon-$(VERSION)-linux-amd64 $(VERSION) console/package-lock.json \
		> $(RELEASE)/wardicon-$(VERSION).spdx.json
	cd $(RELEASE) && sha256sum wardicon-* > SHA256SUMS && cat SHA256SUMS

# Packages for Debian, and the command line for other systems; see docs/installing.md.
.PHONY: package
package: release ## packages for Debian, and the command line for macOS and Windows
	export SOURCE_DATE_EPOCH=$$(git log -1 --format=%ct)
	for arch in amd64 arm64; do
		$(GO) run ./tools/pack $(RELEASE)/wardicon-$(VERSION)-linux-$$arch $$arch $(VERSION) \
			$(RELEASE)/wardicon_$(VERSION)_$$arch.deb \
			$$([ $$arch != $$(go env GOARCH) ] || echo $(TOKENS))
	done
	for target in darwin-amd64 darwin-arm64 windows-amd64; do
		GOOS=$${target%-*} GOARCH=$${target#*-} $(GO) build -trimpath -ldflags '$(LDFLAGS)' \
			-o $(RELEASE)/wardicon-$(VERSION)-$$target$$([ $${target%-*} != windows ] || echo .exe) ./cmd/wardicon
	done
	cd $(RELEASE) && sha256sum wardicon* > SHA256SUMS && cat SHA256SUMS

clean: ## remove what was built
	rm -rf bin console/node_modules console/src/api/schema.d.ts console/src/api/fields.json console/components.d.ts
	cd console && find dist -mindepth 1 -not -name .keep -delete
