# make build    one static program in bin/
# make demo     the main job on the made-up household
# make test     everything, after fetching what the tests need where it can
# make bench    measurements; make yardstick compares with nginx and find
# make attack   a server in a small container under attack, while members watch
# make hostile  more rounds of the server's account against root (ROUNDS, SEED)
# make torture  commands killed at any moment on both engines (ROUNDS each, SEED), and spoilt at every step;
#               all combinations of films repacked
# make man      the manual pages in bin/man
# make screenshots  the pictures in docs/screenshots

VERSION ?= 0.1.0
GO      ?= go

.PHONY: build man demo test bench yardstick attack hostile torture screenshots lint clean

build:
	CGO_ENABLED=0 $(GO) build -trimpath -ldflags '-s -w -X main.version=$(VERSION)' -o bin/cozyshelf ./cmd/cozyshelf

man: build
	bin/cozyshelf man bin/man

demo: build
	bin/cozyshelf demo

test:
	sh test/setup.sh
	# ./test takes longest, and waits much: it begins first, beside the others, of which two run at a time.
	CGO_ENABLED=0 $(GO) test -trimpath -timeout 24m -p 3 -parallel 6 ./test $$($(GO) list ./... | grep -v -e /test/hostile -e /test$$)
	CGO_ENABLED=0 $(GO) test -trimpath -timeout 20m ./test/hostile

bench:
	$(GO) test -run '^$$' -bench . -benchmem ./internal/...

yardstick:
	sh test/setup.sh nginx
	COZYSHELF_YARDSTICK=1 $(GO) test -run Yardstick -v -timeout 30m ./test

attack:
	sh test/setup.sh
	COZYSHELF_ATTACK=1 $(GO) test -run UnderAttack -v -timeout 10m ./test

hostile:
	sh test/setup.sh
	COZYSHELF_HOSTILE_ROUNDS=$(or $(ROUNDS),10) COZYSHELF_HOSTILE_SEED=$(SEED) $(GO) test -run TakenOver -v -timeout 60m ./test/hostile

torture:
	sh test/setup.sh
	COZYSHELF_TORTURE=$(or $(ROUNDS),500) COZYSHELF_TORTURE_SEED=$(SEED) $(GO) test -run 'KilledAtAnyMoment|EveryStep' -v -timeout 240m ./test
	COZYSHELF_LONG=1 $(GO) test -run TheSameIsDecoded -timeout 60m ./internal/core/repack

lint:
	test -z "$$(gofmt -l .)"
	$(GO) vet ./...
	$(GO) tool staticcheck ./...

screenshots: build
	sh test/setup.sh xvfb-run xterm
	sh docs/screenshots/make.sh

clean:
	rm -rf bin
