# What can be done here; each target also works by hand.
SHELL := /bin/bash
.SHELLFLAGS := -o pipefail -ec
.PHONY: help build test proof soak lint fuzz bench screenshots

help:
	@echo 'build  test  proof  soak  lint  fuzz  bench  screenshots'

build: # one static program
	CGO_ENABLED=0 go build -trimpath -ldflags='-s -w' -o bin/fundus ./cmd/fundus

test: # what needs Go alone
	@go run ./test/run test

proof: # before a kernel, systemd, the boot loader, shells and the race detector; ONLY=WORDS, LIST=1, HOURS=N
	@go run ./test/run -only '$(ONLY)' $(if $(LIST),-list) $(if $(HOURS),-hours $(HOURS)) proof

soak: # all of both in full; ONLY=WORDS names some. It takes hours.
	@go run ./test/run -only '$(ONLY)' soak

lint:
	test -z "$$(gofmt -s -l .)"
	go vet -tags=proof ./...
	go tool -modfile=lint/go.mod staticcheck -tags=proof ./...

fuzz: # each target for ten seconds
	./scripts/fuzz 10s

bench: # times beside their baselines and limits; STRICT=1 fails above a limit
	STRICT=$(STRICT) go test -run '^$$' -bench . -benchtime 1x -p 1 ./core/... ./internal/... ./test/program

screenshots: # needs Xvfb, xterm and ImageMagick from Debian
	./scripts/screenshots
