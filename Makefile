# 'make help' lists what there is to make.
SHELL := /bin/sh
BIN   := bin/zygos
GO    ?= go
CACHE := .cache
export CGO_ENABLED = 0

SOURCES := $(shell find cmd internal demo -type f ! -name '*_test.go') go.mod go.sum
TESTER  := zygos-tester
NEEDED  := faketime docker-registry s3cmd python3 libarchive-tools cpio qemu-system-x86 qemu-utils ovmf fdisk gdisk dosfstools mtools skopeo openssh-client e2fsprogs zstd xz-utils tar debootstrap uidmap postgresql rpm db5.3-util procps util-linux passwd ca-certificates gnupg minisign
AS_USER := internal/machine internal/layer internal/base internal/build

.PHONY: foreign help demo build test test-long test-as-user race crash cuts faults fuzz bench screenshots debian-base reference clean check deps

help: ## list the targets
	@sed -n 's/^\([a-z-]*\):.*## /\1\t/p' $(MAKEFILE_LIST) | awk -F'\t' '{printf "  make %-12s %s\n", $$1, $$2}'

build: $(BIN) ## build the static program, bin/zygos

$(BIN): $(SOURCES)
	@command -v $(GO) >/dev/null || { echo "Go 1.26 or later is needed to build: install it and put it on PATH"; exit 1; }
	$(GO) build -trimpath -ldflags='-s -w' -o $@ ./cmd/zygos

demo: $(BIN) ## run the whole worked example in a new folder
	@$(BIN) demo "$$(mktemp -d)/ebbline"

FIXTURES := $(CACHE)/debian/bases $(CACHE)/kernel $(CACHE)/versitygw $(CACHE)/judges
# Packages whose values several goroutines share.
SHARED   := $(addprefix ./internal/,app build catalog family flock layer publish record region/... remote retention session standin state store supply)

test: deps ## run the tests, but for the long ones
	@$(MAKE) -s -j3 check $(FIXTURES)
	bench/with-postgres.sh $(GO) test -count=1 -timeout 30m -parallel 3 ./...
	@if [ "$$(id -u)" = 0 ]; then $(MAKE) -s test-as-user; fi

# Tests that are long, or have a long round, by name.
LONG = $$(grep -rlE 'needtest\.(Is)?Long\(' internal --include='*_test.go' | \
  xargs awk '/^func Test/ { name = $$2; sub(/\(.*/, "", name) } /needtest\.(Is)?Long\(/ { print name }' | sort -u | paste -sd '|')

test-long: deps ## run the long tests: guests, kills, lines that are cut, other programs that read disks
	@$(MAKE) -s -j3 $(BIN) $(FIXTURES)
	ZYGOS_LONG=1 bench/with-postgres.sh $(GO) test -count=1 -timeout 30m -parallel 3 -run "^($(LONG))$$" ./internal/disk ./internal/layer ./internal/cli
	@[ -n "$$(git status --porcelain)" ] || git rev-parse HEAD > .ci/long-passed

# The packages that make sandboxes once more, as an ordinary user.
test-as-user:
	@mkdir -p $(CACHE)/user && chmod 0755 $(CACHE) $(CACHE)/user
	@for p in $(AS_USER); do \
	  t=$$(mktemp -d) && $(GO) test -c -o $$t/t ./$$p && chmod -R a+rX $$t && \
	  (cd / && setpriv --reuid=$(TESTER) --regid=$(TESTER) --init-groups env HOME=/tmp $$t/t) && echo "ok $$p as $(TESTER)" || exit 1; \
	  rm -rf $$t; done

race: deps ## look for races with the race detector, which needs a C compiler
	CGO_ENABLED=1 bench/with-postgres.sh $(GO) test -race -count=1 -timeout 30m $(SHARED)

crash: deps ## kill builds and publications at 200 random moments
	ZYGOS_LONG=1 ZYGOS_CRASHES=200 $(GO) test -count=1 -timeout 30m -v -run TestKilledAtAnyMoment ./internal/cli

CUTS := 200
cuts: deps ## cut the line to PostgreSQL at CUTS=200 statements of commands
	ZYGOS_LONG=1 ZYGOS_CUTS=$(CUTS) bench/with-postgres.sh $(GO) test -count=1 -timeout 30m -v -run TestLinesThatAreCut ./internal/cli

FAULTS := 500
faults: deps ## let FAULTS=500 faults strike publications to the simulated cloud
	ZYGOS_FAULTS=$(FAULTS) $(GO) test -count=1 -timeout 60m -v -run TestFaultsOfACloud ./internal/cli

FUZZ := 10m
fuzz: ## fuzz definitions, archives, what servers answer, records and readers of disks, FUZZ=10m each
	$(GO) test ./internal/definition -run xx -fuzz FuzzDefinition -fuzztime $(FUZZ) -fuzzminimizetime 10x
	$(GO) test ./internal/layer -run xx -fuzz FuzzUnpack -fuzztime $(FUZZ) -fuzzminimizetime 10x
	for f in manifest:Index feed:Listing region/registry:Answers region/cloud:Answers build:Record base:Layers; do \
	  $(GO) test ./internal/$${f%:*} -run xx -fuzz "Fuzz$${f#*:}\$$" -fuzztime $(FUZZ) -fuzzminimizetime 10x || exit; done
	for f in Ext4 Table Qcow2 Vmdk Vhd Vhdx Ova; do $(GO) test ./internal/reading -run xx -fuzz "Fuzz$$f\$$" -fuzztime $(FUZZ) -fuzzminimizetime 10x || exit; done

# Needs root; the test images are those of e2fsprogs' source package.
foreign: deps ## compare what is read of ext4 with what the kernel sees
	t=$$(mktemp -d); cd $$t; mkdir -p lists/partial; \
	sed 's/^Types: deb$$/Types: deb-src/' /etc/apt/sources.list.d/debian.sources > s.sources; \
	apt="apt-get -qq -o Dir::Etc::sourcelist=$$t/s.sources -o Dir::Etc::sourceparts=/dev/null -o Dir::State::lists=$$t/lists"; \
	$$apt update && $$apt source --download-only e2fsprogs && tar -xf e2fsprogs_*.orig.tar.gz && apt-get install -y -qq attr acl libcap2-bin >/dev/null && \
	cd $(CURDIR) && IMAGES=$$t $(GO) test -tags foreign -count=1 -v -run 'Kernel|E2fsprogs' ./internal/reading; s=$$?; rm -rf $$t; exit $$s

check: $(CACHE)/staticcheck ## vet, format, static analysis
	@test -z "$$(gofmt -l cmd internal demo bench)" || { gofmt -l cmd internal demo bench; echo "run gofmt -w on these"; exit 1; }
	$(GO) vet ./...
	$(CACHE)/staticcheck ./...

# As root, installs what tests use and makes the ordinary user they run as.
deps:
	@missing=; for p in $(NEEDED); do dpkg-query -W -f='$${Status}' $$p 2>/dev/null | grep -q 'ok installed' || missing="$$missing $$p"; done; \
	if [ -n "$$missing" ] && [ "$$(id -u)" = 0 ]; then apt-get update -qq && DEBIAN_FRONTEND=noninteractive apt-get install -y -qq --no-install-recommends $$missing >/dev/null; \
	elif [ -n "$$missing" ]; then echo "not installed, and needed by some tests:$$missing"; fi
	@if [ "$$(id -u)" = 0 ] && ! id -u $(TESTER) >/dev/null 2>&1; then useradd --create-home $(TESTER); fi
	@if [ "$$(id -u)" = 0 ]; then for f in /etc/subuid /etc/subgid; do grep -q '^$(TESTER):' $$f 2>/dev/null || echo '$(TESTER):1200000:65536' >> $$f; done; fi

# A copy of the Debian example with its base, for tests and benchmarks.
$(CACHE)/debian/bases: examples/debian/make-base.sh
	@if [ "$$(id -u)" = 0 ]; then rm -rf $(CACHE)/debian && mkdir -p $(CACHE) && cp -r examples/debian $(CACHE)/debian && rm -rf $(CACHE)/debian/bases $(CACHE)/debian/.zygos && examples/debian/make-base.sh $(CACHE)/debian; \
	else echo "the Debian base is made as root only; its test is skipped"; fi

# A kernel and the modules that a guest needs to build in, in the order in which they are loaded.
MODULES := crc16 crc32c_generic libcrc32c mbcache jbd2 ext4 virtio_ring virtio virtio_pci_legacy_dev virtio_pci_modern_dev virtio_pci virtio_blk overlay
$(CACHE)/kernel:
	@if [ "$$(id -u)" = 0 ]; then set -e; t=$$(mktemp -d); chmod 0755 $$t; cd $$t; \
	  package=$$(apt-cache depends linux-image-cloud-amd64 | awk '/Depends: linux-image/ {print $$2; exit}'); \
	  apt-get download -qq $$package 2>/dev/null; dpkg-deb -x $$package*.deb x; mkdir -p $(CURDIR)/$@.new/modules; cp x/boot/vmlinuz-* $(CURDIR)/$@.new/vmlinuz; \
	  for m in $(MODULES); do f=$$(find x/lib/modules -name $$m.ko*); [ -z "$$f" ] || { cp $$f $(CURDIR)/$@.new/modules/; basename $$f >> $(CURDIR)/$@.new/modules/order; }; done; \
	  mv $(CURDIR)/$@.new $(CURDIR)/$@; rm -rf $$t; \
	else echo "the kernel for a guest is fetched as root only; its test is skipped"; fi

# A Debian with the programs whose judgement the expectations of checks share: sudo, sshd and systemctl.
$(CACHE)/judges: $(CACHE)/debian/bases
	@if [ "$$(id -u)" = 0 ]; then set -e; rm -rf $@ $@.new; mkdir -p $@.new; tar --zstd -xf $(CACHE)/debian/bases/*.tar.zst -C $@.new; \
	  cp /etc/resolv.conf $@.new/etc/; printf '#!/bin/sh\nexit 101\n' > $@.new/usr/sbin/policy-rc.d; chmod 0755 $@.new/usr/sbin/policy-rc.d; \
	  cp -r /etc/apt/. $@.new/etc/apt/; \
	  { chroot $@.new apt-get update && DEBIAN_FRONTEND=noninteractive chroot $@.new apt-get install -y -qq --no-install-recommends sudo openssh-server \
	  systemd; } >/dev/null 2>&1; test -x $@.new/usr/bin/sudo -a -x $@.new/usr/sbin/sshd -a -x $@.new/usr/bin/systemctl; mv $@.new $@; \
	else echo "the tree of sudo, sshd and systemctl is made as root only; its test is skipped"; fi

# An S3 server to place artifacts in.
$(CACHE)/versitygw: tools/s3server/go.mod tools/s3server/go.sum
	@mkdir -p $(CACHE) && cd tools/s3server && $(GO) build -ldflags=-s -o $(CURDIR)/$@ github.com/versity/versitygw/cmd/versitygw

$(CACHE)/staticcheck: tools/staticcheck/go.mod tools/staticcheck/go.sum
	@mkdir -p $(CACHE) && cd tools/staticcheck && $(GO) build -o $(CURDIR)/$@ honnef.co/go/tools/cmd/staticcheck

debian-base: deps ## make the base of examples/debian with debootstrap (root)
	examples/debian/make-base.sh

bench: $(BIN) deps $(CACHE)/debian/bases $(CACHE)/versitygw ## measure against standard tools, as ratios
	bench/with-postgres.sh $(GO) run ./bench $(BIN) $(CACHE)/debian

screenshots: $(BIN) ## make docs/screenshots anew
	docs/screenshots/make.sh

reference: $(BIN) ## make docs/reference from the command table
	@mkdir -p docs/reference && $(BIN) help -- --markdown > docs/reference/commands.md

clean: ## remove what was built
	rm -rf bin $(CACHE)/debian $(CACHE)/user examples/debian/bases examples/debian/.zygos examples/debian/regions
