# What can be done here; each target also works by hand.
SHELL := /bin/bash
.SHELLFLAGS := -o pipefail -ec
.PHONY: kernel help build test soak quick lint fuzz bench screenshots

help:
	@echo 'build  test  soak  quick  lint  fuzz  bench  screenshots'

build: # one static program
	CGO_ENABLED=0 go build -trimpath -ldflags='-s -w' -o bin/fundus ./cmd/fundus

kernel: # the kernel that judges, from Debian, unless another is named, and what makes the system around it
	@{ { test -n "$$FUNDUS_TEST_KERNEL" || command -v linux.uml; } && command -v mmdebstrap && command -v grub-fstest; } > /dev/null || { apt-get update -q && DEBIAN_FRONTEND=noninteractive apt-get install -qy user-mode-linux mmdebstrap grub-common; } > /dev/null

test: kernel # every test, the proofs as a sample, core and deeds under the race detector
	go vet ./...
	go run ./test/closing

soak: kernel # every proof in full; ONLY=PATTERN names some. It takes hours.
	FUNDUS_SOAK=1 go run ./test/closing -run '$(ONLY)'

quick: # without the sweeps
	go test ./core/... ./internal/... ./test/structure

lint:
	test -z "$$(gofmt -s -l .)"
	go vet ./...
	go tool -modfile=lint/go.mod staticcheck ./...

fuzz: # each target for ten seconds
	./scripts/fuzz 10s

bench: # times beside their baselines and limits; STRICT=1 fails above a limit
	STRICT=$(STRICT) go test -run '^$$' -bench . -benchtime 1x -p 1 ./core/... ./internal/... ./test/program

screenshots: # needs Xvfb, xterm and ImageMagick from Debian
	./scripts/screenshots
