# make test runs everything that a change has to pass; make bench prints what things cost.
GO ?= go

.PHONY: build test bench golden schema

build:
	$(GO) build -o bin/paceduel ./cmd/paceduel

# The interface tests need tmux (and pgrep, from procps). They are installed where that is allowed; where it is not, the
# tests say what is missing and are left out knowingly.
test:
	@sh ./e2e/need-tmux
	@if command -v tmux >/dev/null && command -v pgrep >/dev/null; then \
		$(GO) test ./...; \
	else \
		echo "LEFT OUT: the interface tests, since tmux or pgrep is missing and could not be installed here"; \
		PACEDUEL_TEST_WITHOUT_TERMINAL=1 $(GO) test $$($(GO) list ./... | grep -v /e2e$$); \
	fi

bench:
	$(GO) test -run '^$$' -bench . ./core/...

# After a wanted change of output: write the golden files anew, then read the difference.
golden:
	$(GO) test ./core/plan ./core/judge ./core/result ./core/chart ./screen/app -update
