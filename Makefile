# make test runs everything that a change has to pass; make bench prints what things cost.
GO ?= go

.PHONY: build test bench golden calibrate mirrors

build:
	$(GO) build -o bin/paceduel ./cmd/paceduel
	./bin/paceduel man bin/man

# The test of who imports whom asks the go command, which the test cache does not notice either: it always runs.
# Statements are tried on real database servers, which are installed where that is allowed; tests say which are left out.
# The interface tests build and drive the real program, which the test cache does not notice: they always run. They need
# tmux (and pgrep, from procps), which are installed where that is allowed; where it is not, the tests say what is missing
# and are left out knowingly.
test:
	@sh ./e2e/need-tmux
	@sh ./e2e/need-databases
	$(GO) test $$($(GO) list ./... | grep -v -e /e2e$$ -e /internal/arch$$)
	$(GO) test -count=1 ./internal/arch
	@if command -v tmux >/dev/null && command -v pgrep >/dev/null; then \
		echo "$(GO) test -count=1 ./e2e"; $(GO) test -count=1 ./e2e; \
	else \
		echo "LEFT OUT: the interface tests, since tmux or pgrep is missing and could not be installed here"; \
	fi

bench:
	$(GO) test -run '^$$' -bench . ./core/... ./screen/app
	$(GO) test -run '^$$' -bench . -benchtime 2x ./e2e

# Holds verdicts to their promises by simulation, in full: about an hour of two processors. It writes the tables of
# docs/statistics.md. The mirrors are duels of a baseline against itself on this machine, for real: about half an hour.
calibrate:
	$(GO) test -count=1 -timeout 6h -run TestFull ./internal/calibration -full $(CURDIR)/docs/statistics.md

mirrors:
	$(GO) test -count=1 -timeout 3h -v -run TestMirrors ./internal/calibration -mirrors 200

# After a wanted change of output: write the golden files anew, then read the difference.
golden:
	$(GO) test $$(grep -rlE 'paceduel/internal/(golden|viewtest)"' --include='*_test.go' core screen internal | xargs dirname | sort -u | sed 's|^|./|') -update
