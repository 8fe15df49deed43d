# What can be done here; each target also works by hand.
SHELL := /bin/bash
.SHELLFLAGS := -o pipefail -ec
.PHONY: kernel help build test quick lint fuzz screenshots

help:
	@echo 'build  test  quick  lint  fuzz  screenshots'

build: # one static program
	CGO_ENABLED=0 go build -trimpath -ldflags='-s -w' -o bin/fundus ./cmd/fundus

kernel: # the kernel that judges, from Debian, unless another is named, and what makes the system around it
	@{ test -n "$$FUNDUS_TEST_KERNEL" || command -v linux.uml; } > /dev/null && command -v mmdebstrap > /dev/null || { apt-get update -q && DEBIAN_FRONTEND=noninteractive apt-get install -qy user-mode-linux mmdebstrap; } > /dev/null

test: kernel # every test, the sweeps with their closing lines, core and deeds under the race detector
	go vet ./...
	go test ./core/... ./internal/...
	FUNDUS_NEED_KERNEL=1 go test -v -p 1 -parallel 3 -timeout 60m ./test/... | grep -v '^=== \|^ *--- PASS\|^ *cuts_test.go'
	CGO_ENABLED=1 go test -race -short ./core/... ./internal/deed ./internal/machine/... ./internal/oscall

quick: # without the sweeps
	go test ./core/... ./internal/... ./test/structure

lint:
	test -z "$$(gofmt -s -l .)"
	go vet ./...
	go tool staticcheck ./...

fuzz: # each target for ten seconds
	./scripts/fuzz 10s

screenshots: # needs Xvfb, xterm and ImageMagick from Debian
	./scripts/screenshots
