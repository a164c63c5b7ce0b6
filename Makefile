# Two commands do everything: `make demo` starts Isbjorn with its demonstration, `make test` checks all of it.
PYTHON ?= python3
PORT ?= $(or $(ISBJORN_PORT),8321)
DATA ?= $(or $(ISBJORN_DATA),$(HOME)/.isbjorn)
BIN := .venv/bin
PAGE := isbjorn/studio/page/index.html
export PIP_DISABLE_PIP_VERSION_CHECK := 1

SOURCES := $(shell find isbjorn tests -name '*.py')

.PHONY: demo test test-under-load setup page tools check unit core browser bench clean types screenshots

# The packages and the page are installed side by side; the engine is compiled, and the demonstration painted, while it runs.
demo:
	@$(MAKE) --no-print-directory -j2 .venv/.compiled $(PAGE)
	$(BIN)/isbjorn demo --port $(PORT) --data "$(DATA)"

# The two halves of the set-up run side by side, as for `demo`; kernels take both cores.
test: tools
	@$(MAKE) --no-print-directory -j2 .venv/.test .venv/.compiled web/node_modules/.ready web/src/api/types.ts $(PAGE)
	@$(MAKE) --no-print-directory .venv/.kernels
	$(BIN)/python -m tests.everything

setup: .venv/.ready $(PAGE)

.venv/.made:
	@echo "— Making a virtual environment in .venv"
	@$(PYTHON) -m venv .venv
	@touch $@

.venv/.ready: requirements.txt pyproject.toml .venv/.made
	@echo "— Installing the pinned Python packages"
	@sh setup/install.sh requirements.txt
	@$(BIN)/pip install -q --no-deps --no-build-isolation -e .
	@touch $@

# Kernels are compiled once, and again when their text has changed.
.venv/.kernels: $(SOURCES) .venv/.ready
	$(BIN)/python -m isbjorn.core.compile_kernels
	@touch $@

# A start reads them as they are, even where Python is told to keep nothing.
.venv/.compiled: $(SOURCES) .venv/.ready
	@$(BIN)/python -m compileall -q isbjorn tests
	@touch $@

.venv/.test: requirements-test.txt .venv/.ready
	@echo "— Installing what the tests need"
	@sh setup/install.sh requirements-test.txt
	@touch $@

# Not `npm ci`: it refuses a lock without the optional binaries of other platforms, which some mirrors do not hold.
web/node_modules/.ready: web/package-lock.json
	@echo "— Installing the pinned front-end packages"
	@cd web && npm install --no-save --no-audit --no-fund --loglevel=error
	@touch $@

# The page's types are made from the API's description.
web/src/api/types.ts: docs/openapi.json web/node_modules/.ready
	@cd web && npm run --silent types >/dev/null

$(PAGE): web/src/api/types.ts $(shell find web/src web/index.html web/vite.config.ts docs/handbook -type f 2>/dev/null)
	@echo "— Building the page"
	@cd web && npm run --silent build -- --logLevel error
	@touch $@

page: $(PAGE)

# Chromium and its driver for the browser tests, ffprobe for the movie tests, software OpenGL for the bench.
tools:
	@sh tests/install_tools.sh

# Everything, each part to its end; what failed is printed together at the end (see tests/everything.py).
NEEDED := .venv/.test .venv/.compiled .venv/.kernels web/node_modules/.ready web/src/api/types.ts $(PAGE)

check unit core browser: $(NEEDED)
	$(BIN)/python -m tests.everything --only $(PARTS)

check: PARTS := checks
unit: PARTS := core studio
core: PARTS := core
browser: PARTS := browser

# No result may depend on how busy the machine is: all of it, five times, beside three busy processes.
test-under-load: tools $(NEEDED)
	$(BIN)/python -m tests.everything --load 3 --times 5

# The description follows the API; `make check` refuses one that does not.
types: .venv/.ready
	$(BIN)/python -m isbjorn.studio.openapi docs/openapi.json
	$(MAKE) web/src/api/types.ts

bench: .venv/.test .venv/.compiled
	$(BIN)/isbjorn bench --json

screenshots: .venv/.test $(PAGE)
	$(BIN)/python -m tests.browser.screenshots docs/screenshots

clean:
	rm -rf .venv web/node_modules isbjorn/studio/page build dist
