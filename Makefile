# Two commands: `make demo` runs everything on this machine, `make test` proves it.

SHELL := bash
GO ?= go
# Without the folder's name in it: the same commit gives the same programs, whoever builds them, and what was built for one purpose or in
# another clone needs not be built again.
export GOFLAGS := $(shell $(GO) env GOFLAGS) -trimpath
VERSION ?= $(shell git describe --always --dirty 2>/dev/null || echo unknown)
# Not ./...: packages of npm may hold Go files too.
PACKAGES := ./bench/... ./cmd/... ./internal/... ./docs/... ./web
LDFLAGS := -s -w -X inkpost.example/inkpost/internal/cli.Version=$(VERSION) -X inkpost.example/inkpost/internal/agent/command.Version=$(VERSION)
SUDO := $(shell [ "$$(id -u)" = 0 ] || echo sudo)

# What the service, the demo's guide and the tests need from Debian: a command or file that shows it is there, and its package.
RUN_NEEDS := /usr/lib/postgresql/*/bin/initdb:postgresql
DEMO_NEEDS := /usr/bin/dig:bind9-dnsutils
TEST_NEEDS := /usr/bin/chromium-headless-shell:chromium-headless-shell /usr/bin/systemd-analyze:systemd /usr/bin/gnome-keyring-daemon:gnome-keyring /usr/bin/dbus-send:dbus-bin /usr/bin/dig:bind9-dnsutils /usr/sbin/named:bind9 /usr/sbin/nsd:nsd /usr/sbin/knotd:knot \
	/usr/sbin/miniupnpd:miniupnpd-nftables /usr/bin/turnserver:coturn /usr/sbin/nft:nftables /usr/sbin/ip:iproute2 \
	/usr/sbin/sshd:openssh-server /usr/sbin/nginx:nginx-light /usr/sbin/haproxy:haproxy /usr/bin/certbot:certbot /usr/lib/python3/dist-packages/certbot_dns_rfc2136:python3-certbot-dns-rfc2136 /usr/sbin/chronyd:chrony /usr/sbin/xrdp:xrdp /usr/sbin/vsftpd:vsftpd \
	/usr/lib/dovecot/imap-login:dovecot-imapd /usr/lib/dovecot/pop3-login:dovecot-pop3d /usr/lib/dovecot/submission-login:dovecot-submissiond \
	/usr/sbin/mosquitto:mosquitto /usr/sbin/snmpd:snmpd /usr/sbin/openvpn:openvpn \
	/usr/sbin/kamailio:kamailio /usr/bin/Xtigervnc:tigervnc-standalone-server /usr/lib/ipsec/charon:strongswan-charon

.PHONY: days soak reproducible materials vulnerabilities package-trial package notices fuzz types causes truth dist bench demo test build console check unit race clean screenshots install-run install-demo install-test

# make demo SITES=2000 is a demo of its own, in a folder of its own, which is made anew each time.
demo: install-demo build
	@exec bin/inkpost demo $(if $(SITES),--sites $(SITES) --fresh --data $(DEMO_DIR)-$(SITES))
DEMO_DIR := $(if $(filter 0,$(shell id -u)),/var/tmp/inkpost-demo,$(HOME)/.local/state/inkpost/demo)

build: install-run console
	@$(GO) build -ldflags '$(LDFLAGS)' -o bin/inkpost ./cmd/inkpost
	@CGO_ENABLED=0 $(GO) build -ldflags '$(LDFLAGS)' -o bin/inkpost-agent ./cmd/inkpost-agent

# Packages that are there already ask nothing of the network.
define install
	@missing=""; for need in $(1); do ls $${need%%:*} >/dev/null 2>&1 || missing="$$missing $${need##*:}"; done; \
	if [ -n "$$missing" ]; then echo "installing$$missing"; \
	  $(SUDO) apt-get update -qq && $(SUDO) env DEBIAN_FRONTEND=noninteractive RUNLEVEL=1 apt-get install -y -qq --no-install-recommends $$missing >/dev/null; fi
endef

install-run:
	$(call install,$(RUN_NEEDS))

install-demo: install-run
	$(call install,$(DEMO_NEEDS))

install-test: install-run
	$(call install,$(TEST_NEEDS))

console: web/dist/index.html

web/dist/index.html: web/node_modules/.installed $(shell find web/src web/public -type f) web/index.html web/vite.config.ts
	@cd web && npm run --silent build >/dev/null

web/node_modules/.installed: web/package-lock.json
	@cd web && npm ci --silent --no-audit --no-fund --prefer-offline && touch node_modules/.installed

# typed writes the console's types to $(1).
typed = @mkdir -p bin && $(GO) run ./internal/api/openapi -documents >bin/openapi.json && \
  cd web && npm exec --silent -- openapi-typescript ../bin/openapi.json -o ../$(1) >/dev/null

# The console's types, from the API's own description.
types: web/node_modules/.installed
	$(call typed,web/src/generated.ts)

# Faults behind real kernel NAT, and what is said of them: all of them, which takes a quarter of an hour, as root.
truth: install-test build
	INKPOST_TRUTH=full $(GO) test -count=1 -timeout 60m -run 'TestWhatIsSaidOfFaultsBehindRealNAT|TestNoFaultWhereAllIsWell' -v ./internal/trials/guest | \
	  grep -E "^(router|modem|carrier|well)|^of [0-9]+ faults|^(ok|FAIL)"

# What the programs are built with, and under which licences.
notices: web/node_modules/.installed
	$(GO) run ./docs/notices >docs/third-party.md.new && mv docs/third-party.md.new docs/third-party.md

# The pages of the causes, from their table.
causes:
	$(GO) run ./cmd/inkpost cause --pages docs/causes

check: console
	@unformatted=$$(gofmt -l bench cmd internal docs web/*.go); if [ -n "$$unformatted" ]; then echo "gofmt: $$unformatted"; exit 1; fi
	$(GO) vet $(PACKAGES)
	$(GO) tool staticcheck $(PACKAGES)
	cd web && npm run --silent check
	$(call typed,bin/generated.ts)
	@cmp bin/generated.ts web/src/generated.ts || { echo "web/src/generated.ts is not what internal/contract describes: run make types"; exit 1; }

# The packages with goroutines run under the race detector. Those without have nothing that it could find; the trials have no code of their
# own: they drive the same packages whole, at the pace that they have in the field. Most tests wait more than they compute: some more of
# them run at a time than there are processors, what takes longest begins, and `check` has what they leave. It vets them; what debuggers
# need is left out of the programs, as it takes a quarter of the linking. Databases come and go by the hundred: their files are kept in memory
# where there is room, as a disk's file system takes three times as much of a processor to make and remove them.
TESTED := $$($(GO) list -f '{{if or .TestGoFiles .XTestGoFiles}}{{.Dir}}{{end}}' $(PACKAGES) | grep -v '/trials/packages$$')
LONGEST := $(addprefix ./internal/,daemon demo agent cli wire/distance agent/source wire/speak)
SCRATCH := $(shell [ "$$(df -k --output=avail /dev/shm 2>/dev/null | tail -1)" -gt 8000000 ] 2>/dev/null && [ -w /dev/shm ] && \
  ! grep -q '^[^ ]* /dev/shm [^ ]* [^ ]*noexec' /proc/mounts && echo /dev/shm || echo "$${TMPDIR:-/tmp}")
GO_TEST := GOTMPDIR=$${GOTMPDIR:-$${TMPDIR:-/tmp}} TMPDIR=$$scratch $(GO) test -shuffle=on -vet=off -ldflags=-w -p 2 -parallel 3 -timeout 14m
test: install-test build
	@scratch=$$(mktemp -d $(SCRATCH)/ink-XXXX) && chmod 755 $$scratch && trap 'rm -rf '$$scratch EXIT; \
	nice -n 19 $(MAKE) --no-print-directory check >bin/check.log 2>&1 & checking=$$!; alone=""; raced=""; for at in $(TESTED); do case $$at in \
	    */bench*|*/internal/trials*) alone="$$alone $$at";; \
	    *) if grep -qE '\bgo func|\bgo [a-zA-Z.]+\(|\.Go\(|\bchan |"sync' $$at/*.go; then raced="$$raced $$at"; else alone="$$alone $$at"; fi;; esac; done; \
	  failed=0; $(GO_TEST) -race $(LONGEST) $$raced && $(GO_TEST) ./internal/trials/guest ./internal/trials $$alone || failed=1; \
	  wait $$checking || failed=1; cat bin/check.log; exit $$failed

# What breaks a service in the field, for long: two servers, agents and editors at work for SOAK, and 50 kills under 20,000 changes.
SOAK ?= 1h
soak: install-test build
	INKPOST_SOAK=$(SOAK) $(GO) test -count=1 -race -timeout 24h -v -run 'TestTwoServersTwoAgents|TestTheActiveServerIsKilled|TestADatabasesStandby' \
	  ./internal/trials | grep -E '^ +[a-z_]+_test.go|^(---|ok|FAIL|PASS)'

# Days of many sites on a simulated clock, in about a minute an hour for a thousand sites, and several in an hour of an outage.
HOURS ?= 72
SITES ?= 1000
days: install-test
	INKPOST_HOURS=$(HOURS) INKPOST_SITES=$(SITES) $(GO) test -count=1 -timeout 24h -v -run TestDaysPass ./internal/trials/days

# Each fuzz target for FUZZTIME.
FUZZTIME ?= 30s
fuzz:
	@grep -rHo --include=*_test.go '^func Fuzz[A-Za-z]*' internal | sed 's|\(.*\)/[^/]*:func |\1 |' | sort | while read at target; do \
	  said=$$($(GO) test -run xxx -fuzz "^$$target$$" -fuzztime $(FUZZTIME) ./$$at) || { echo "$$said"; exit 1; }; echo "$$at $$target: $$(echo "$$said" | grep execs | tail -1)"; done

# Everything that is measured, beside NSD, BIND, Knot and bare loops, with its goals: about three quarters of an hour, on a quiet machine. Writes
# docs/performance.md and docs/performance.json. PARTS are names with commas.
bench: install-test build
	$(call install,/usr/bin/dnsperf:dnsperf)
	$(GO) run ./bench/all -parts "$(PARTS)"

# The agent alone, for every machine that may stand at a site. armv6 is the smallest of the small boards.
DIST := linux-amd64 linux-arm64 linux-armv6 windows-amd64 darwin-amd64 darwin-arm64
dist:
	@mkdir -p dist; for at in $(DIST); do \
	  os=$${at%-*}; arch=$${at#*-}; arm=; case $$arch in armv6) arch=arm; arm=6;; esac; end=; [ $$os = windows ] && end=.exe; \
	  CGO_ENABLED=0 GOOS=$$os GOARCH=$$arch GOARM=$$arm $(GO) build -ldflags '-s -w $(LDFLAGS)' -o dist/inkpost-agent-$$at$$end ./cmd/inkpost-agent || exit 1; done; \
	ls -l dist | awk 'NR > 1 { printf "%6.1f MB  %s\n", $$5 / 1e6, $$9 }'

# Debian packages of the program, the service, the vantage point and the agent, for amd64 and arm64, into dist. The same commit gives the
# same files, whoever builds them.
NFPM := github.com/goreleaser/nfpm/v2/cmd/nfpm@v2.48.0
PACKAGE_VERSION := 0.1.$(shell git rev-list --count HEAD 2>/dev/null || echo 0)
export SOURCE_DATE_EPOCH := $(shell git log -1 --format=%ct 2>/dev/null || echo 0)
package: build
	@rm -rf bin/package; mkdir -p dist bin/package/completion bin/package/changelog bin/package/man; rm -f dist/*.deb
	@bin/inkpost manual --dir bin/package/man/inkpost >/dev/null; bin/inkpost manual --agent --dir bin/package/man/inkpost-agent >/dev/null
	@cd bin/package/man/inkpost && rm -f $$(ls ../inkpost-agent) && gzip -9n *.1 && gzip -9n ../inkpost-agent/*.1
	@cd bin/package/completion && for shell in bash fish; do ../../inkpost completion $$shell >inkpost.$$shell; done; \
	  ../../inkpost completion zsh >_inkpost; ../../inkpost-agent completion bash >inkpost-agent.bash
	@gzip -9nc docs/third-party.md >bin/package/third-party.md.gz
	@for p in inkpost inkpost-server inkpost-vantage inkpost-agent; do \
	  printf '%s ($(PACKAGE_VERSION)) stable; urgency=medium\n\n  * As CHANGELOG.md of the source says, at commit $(VERSION).\n\n -- Saltmarsh Networks <noc@saltmarsh.example>  %s\n' \
	    $$p "$$(date -R -u -d @$(SOURCE_DATE_EPOCH))" | gzip -9nc >bin/package/changelog/$$p.gz; done
	@set -e; GOBIN=$(CURDIR)/bin $(GO) install $(NFPM); for arch in amd64 arm64; do for program in inkpost inkpost-agent; do \
	    CGO_ENABLED=0 GOOS=linux GOARCH=$$arch $(GO) build -ldflags '$(LDFLAGS)' -o bin/package/$$arch/$$program ./cmd/$$program; done; \
	  for p in inkpost inkpost-agent; do ARCH=$$arch PACKAGE_VERSION=$(PACKAGE_VERSION) bin/nfpm package -f packaging/deb/$$p.yaml -p deb -t dist >/dev/null; done; done; \
	for p in inkpost-server inkpost-vantage; do PACKAGE_VERSION=$(PACKAGE_VERSION) bin/nfpm package -f packaging/deb/$$p.yaml -p deb -t dist >/dev/null; done
	@ls -l dist/*.deb | awk '{ printf "%6.1f MB  %s\n", $$5 / 1e6, $$9 }'

# The packages, put on a new Debian machine in a folder (needs its archive): service, vantage point and agent run, a site is commissioned, all is
# removed. Its log is in bin/package-trial.log.
package-trial: package install-test
	$(call install,/usr/sbin/debootstrap:debootstrap /usr/bin/lintian:lintian)
	$(GO) test -count=1 -timeout 20m -v ./internal/trials/packages | tee bin/package-trial.log

# Whether this commit gives the same programs wherever it is built: in two clones, in folders of other names.
reproducible:
	@at=$$(mktemp -d) && trap 'rm -rf '$$at EXIT && for to in one another/place; do git clone -q . $$at/$$to && \
	  $(MAKE) -s -C $$at/$$to build >/dev/null 2>&1 || exit 1; done && cd $$at && (cd one/bin && sha256sum inkpost inkpost-agent) | \
	  tee one.sums && cd another/place/bin && sha256sum -c ../../../one.sums

# What the programs are made of, as CycloneDX: of the Go program from itself, of the console from npm. Then, where its data can be had, whether
# any of it is known to be vulnerable.
CYCLONEDX := github.com/CycloneDX/cyclonedx-gomod/cmd/cyclonedx-gomod@v1.10.0
GOVULNCHECK := golang.org/x/vuln/cmd/govulncheck@v1.9.0
materials: build
	@mkdir -p dist; GOBIN=$(CURDIR)/bin $(GO) install $(CYCLONEDX)
	@for p in inkpost inkpost-agent; do bin/cyclonedx-gomod bin -json -version $(VERSION) -output dist/$$p.cdx.json bin/$$p; done
	@cd web && npm sbom --sbom-format=cyclonedx --omit=dev 2>/dev/null >../dist/console.cdx.json
	@for p in inkpost inkpost-agent console; do printf '%s: %s parts\n' dist/$$p.cdx.json $$(grep -c '"purl"' dist/$$p.cdx.json); done
vulnerabilities: build
	@GOBIN=$(CURDIR)/bin $(GO) install $(GOVULNCHECK)
	@bin/govulncheck -mode binary bin/inkpost && bin/govulncheck -mode binary bin/inkpost-agent && cd web && npm audit --omit=dev

screenshots: build install-test
	$(call install,/usr/bin/Xvfb:xvfb /usr/bin/xterm:xterm /usr/bin/import-im6*:imagemagick /usr/bin/gs:ghostscript)
	$(GO) run ./docs/shoot docs/screenshots

clean:
	rm -rf bin dist web/node_modules web/dist/assets web/dist/index.html
