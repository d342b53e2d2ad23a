# Two commands matter most: make demo, make test. make help lists all.

VERSION := $(shell git describe --tags --always --dirty 2>/dev/null || echo dev)
LDFLAGS := -X main.version=$(VERSION) -X plumlatch/internal/cli/kit.Version=$(VERSION)
CONSOLE := $(shell find console/src console/public console/index.html console/vite.config.ts console/tsconfig.json -type f 2>/dev/null)

.PHONY: help demo demo-machines test test-machines race build generate lint bench screenshots clean

help: ## list these commands
	@awk -F ':.*## ' '/^[a-z-]+:.*## / {printf "  make %-14s %s\n", $$1, $$2}' $(MAKEFILE_LIST)

demo: build ## start everything with the sample fleet; Ctrl-C stops it and keeps the data
	@scripts/need "/usr/lib/postgresql/*/bin/initdb=postgresql" ssh=openssh-client
	@bin/plumlatchd -demo

demo-machines: build ## the same, and three real machines under libvirt (DRIVER=lxc or qemu); needs root
	@case "$(DRIVER)" in lxc) image=debian-12-container;; qemu) image=debian-12;; *) echo "DRIVER is lxc or qemu"; exit 2;; esac; \
	scripts/need $(HALL) && images=$$(bin/croftd image build $$image -quick -cache "$(CACHE)") && \
	bin/plumlatchd -demo -data .demo-machines -machines "$$images"

test: build lint ## install what tests need, check the code, run all tests
	@scripts/need "/usr/lib/postgresql/*/bin/initdb=postgresql" ssh=openssh-client /usr/bin/chromium-headless-shell=chromium-headless-shell pgrep=procps /usr/sbin/sshd=openssh-server /usr/sbin/visudo=sudo /usr/sbin/pgbouncer=pgbouncer curl=curl jq=jq zsh=zsh fish=fish
	TMPDIR=$$(scripts/quick-folder) PLUMLATCH_BUILT=$(CURDIR)/bin go test -count=1 -vet=off -timeout 60m -parallel 3 ./e2e ./internal/service/route ./internal/service/rotate ./... # the longest first

HALL = "/usr/lib/postgresql/*/bin/initdb=postgresql" ssh=openssh-client libvirtd=libvirt-daemon \
	"/usr/lib/*/libvirt/connection-driver/libvirt_driver_qemu.so=libvirt-daemon-driver-qemu" \
	"/usr/lib/*/libvirt/connection-driver/libvirt_driver_lxc.so=libvirt-daemon-driver-lxc" virsh=libvirt-clients \
	qemu-system-x86_64=qemu-system-x86 qemu-img=qemu-utils /usr/sbin/dnsmasq=dnsmasq-base ip=iproute2 \
	/usr/sbin/ebtables=iptables mmdebstrap=mmdebstrap /usr/sbin/sfdisk=fdisk /usr/sbin/mke2fs=e2fsprogs \
	/usr/sbin/mkfs.xfs=xfsprogs grub-mkimage=grub-common /usr/lib/grub/i386-pc/boot.img=grub-pc-bin
# The images of make test-machines; what needs another one is skipped. Containers alone take some 8 minutes, all 25.
MACHINES ?= debian-12 debian-12-xfs debian-12-container
# By what make demo-machines runs its machines: lxc (containers, which start in seconds) or qemu (emulated).
DRIVER ?= lxc
CACHE ?= $(or $(XDG_CACHE_HOME),$(HOME)/.cache)/plumlatch-images

test-machines: build ## install what they need, make an image of Debian, and try all on real machines under libvirt and QEMU; needs root
	@[ "$$(id -u)" = 0 ] || { echo "SKIPPED: real machines need root, for namespaces of their own"; exit 0; }; \
	scripts/need $(HALL) && \
	images= && for i in $(MACHINES); do \
		made=$$(bin/croftd image build $$i -quick -cache "$(CACHE)") && images=$$images,$$made || exit 1; done && \
	TMPDIR=$$(scripts/quick-folder) PLUMLATCH_BUILT=$(CURDIR)/bin go test -v -count=1 -vet=off -timeout 40m ./e2e -run TestReal \
		-machines "$${images#,}"

race: ## run the tests of the packages under the race detector, which takes some 15 minutes on two cores
	@scripts/need "/usr/lib/postgresql/*/bin/initdb=postgresql" ssh=openssh-client /usr/sbin/sshd=openssh-server /usr/sbin/visudo=sudo
	TMPDIR=$$(scripts/quick-folder) go test -race -count=1 -vet=off -timeout 40m -parallel 2 ./internal/...

build: console/dist/index.html ## build the console and the binaries into bin/
	@mkdir -p bin
	go build -ldflags "$(LDFLAGS)" -o bin/ ./cmd/...

console/node_modules/.package-lock.json: console/package-lock.json
	cd console && npm ci --no-audit --no-fund
	@touch $@

console/dist/index.html: console/node_modules/.package-lock.json $(CONSOLE)
	cd console && npm run --silent build -- --logLevel warn

generate: console/node_modules/.package-lock.json ## make the server, client and types again from the contracts
	go tool oapi-codegen -config internal/httpapi/contract/generate.yaml api/openapi.yaml
	go tool oapi-codegen -config internal/apiclient/generate.yaml api/openapi.yaml
	go tool oapi-codegen -config internal/cloud/adapter/generate.yaml api/adapter.yaml
	go tool oapi-codegen -config internal/adapter/generate.yaml api/adapter.yaml
	cd console && npm run --silent generate

lint: console/node_modules/.package-lock.json ## gofmt, width, go vet, staticcheck, tsc, prettier, eslint
	@bad=$$(gofmt -l $$(git ls-files '*.go')); [ -z "$$bad" ] || { echo "gofmt would change: $$bad"; exit 1; }
	@wide=$$(git ls-files '*.go' 'console/src/*.ts' 'console/src/*.tsx' | grep -v -E '\.gen\.(go|ts)$$' | xargs awk 'length > 120 {print FILENAME ":" FNR}'); [ -z "$$wide" ] || { echo "wider than 120 columns: $$wide"; exit 1; }
	go vet ./...
	go tool staticcheck ./...
	cd console && npm run --silent check && npm run --silent format && npm run --silent lint

bench: build ## measure the speed and print a table (see docs/benchmarks.md)
	@scripts/need "/usr/lib/postgresql/*/bin/initdb=postgresql"
	@go run ./bench

screenshots: build ## take the pictures in docs/screenshots again
	@scripts/need "/usr/lib/postgresql/*/bin/initdb=postgresql" /usr/bin/chromium-headless-shell=chromium-headless-shell Xvfb=xvfb xterm=xterm import=imagemagick /usr/share/fonts/truetype/dejavu/DejaVuSansMono.ttf=fonts-dejavu-core
	go test ./e2e -run TestScreenshots -count=1 -screenshots $(CURDIR)/docs/screenshots
	scripts/terminal-pictures docs/screenshots

clean: ## remove what was built, and the demo's data
	rm -rf bin .demo console/node_modules console/dist/assets console/dist/index.html console/dist/mark.svg
