# What can be done here; each target also works by hand.
SHELL := /bin/bash
.SHELLFLAGS := -o pipefail -ec
.PHONY: help build package test proof soak lint fuzz bench screenshots

help:
	@echo 'build  package  test  proof  soak  lint  fuzz  bench  screenshots'

build: # one static program
	read -r version at < <(./scripts/version); CGO_ENABLED=0 go build -trimpath -o bin/fundus \
		-ldflags="-s -w -X fundus/internal/cli.Version=$$version -X fundus/internal/cli.Date=$$(date -u -d @$$at +%F)" ./cmd/fundus

package: build # into dist: .deb, .rpm, an archive, digests, and the list of modules
	read -r version at < <(./scripts/version); cd packaging; \
		go run . -top .. -program ../bin/fundus -version "$$version" -at "$$at" -out ../dist; ls -l ../dist

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
