# Two commands do everything: `make demo` starts Isbjorn with its demonstration, `make test` checks all of it.
PYTHON ?= python3
PORT ?= $(or $(ISBJORN_PORT),8321)
DATA ?= $(or $(ISBJORN_DATA),$(HOME)/.isbjorn)
BIN := .venv/bin
PAGE := isbjorn/studio/page/index.html
export PIP_DISABLE_PIP_VERSION_CHECK := 1

SOURCES := $(shell find isbjorn tests -name '*.py')

.PHONY: demo test setup page tools check check-python check-page unit core core-odd core-even studio browser bench clean types screenshots

demo: .venv/.ready .venv/.compiled $(PAGE)
	$(BIN)/isbjorn demo --port $(PORT) --data "$(DATA)"

test: tools .venv/.test .venv/.compiled web/node_modules/.ready $(PAGE) check unit browser

setup: .venv/.ready $(PAGE)

.venv/.made:
	@echo "— Making a virtual environment in .venv"
	$(PYTHON) -m venv .venv
	@touch $@

.venv/.ready: requirements.txt pyproject.toml .venv/.made
	@echo "— Installing the pinned Python packages"
	$(BIN)/pip install -q -r requirements.txt
	$(BIN)/pip install -q --no-deps --no-build-isolation -e .
	@echo "— Compiling the engine's kernels (kept for later starts)"
	$(BIN)/python -m isbjorn.core.ready
	@touch $@

# A start reads them as they are, even where Python is told to keep nothing.
.venv/.compiled: $(SOURCES) .venv/.ready
	$(BIN)/python -m compileall -q isbjorn tests
	@touch $@

.venv/.test: requirements-test.txt .venv/.ready
	@echo "— Installing what the tests need"
	$(BIN)/pip install -q -r requirements-test.txt
	@touch $@

# Not `npm ci`: it refuses a lock without the optional binaries of other platforms, which some mirrors do not hold.
web/node_modules/.ready: web/package-lock.json
	@echo "— Installing the pinned front-end packages"
	cd web && npm install --no-save --no-audit --no-fund --loglevel=error
	@touch $@

# The page's types are made from the API's description.
web/src/api/types.ts: docs/openapi.json web/node_modules/.ready
	cd web && npm run --silent types

$(PAGE): web/src/api/types.ts $(shell find web/src web/index.html web/vite.config.ts -type f 2>/dev/null)
	@echo "— Building the page"
	cd web && npm run --silent build
	@touch $@

page: $(PAGE)

# Chromium and its driver for the browser tests, ffprobe for the movie tests, software OpenGL for the bench.
tools:
	@sh tests/install_tools.sh

check: .venv/.test web/src/api/types.ts
	@echo "— Checking style, types and layers"
	$(MAKE) -j2 --output-sync=target check-python check-page

check-python:
	$(BIN)/ruff check .
	$(BIN)/ruff format --check .
	$(BIN)/mypy
	$(BIN)/lint-imports --no-cache
	$(BIN)/python -m tests.openapi_is_current

check-page:
	cd web && npm run --silent check && npm run --silent lint && npm run --silent test

unit: .venv/.test .venv/.compiled
	@echo "— Engine and studio, beside each other"
	$(MAKE) -j3 --output-sync=target core studio

# Three that take about as long stand beside each other: two parts of the engine's tests, one of them with some of the studio's, and
# the other ones of the studio.
WITH_EVEN := fuzz kept worker store deliveries

core: core-odd core-even

core-odd:
	$(BIN)/python -m unittest $$(ls tests/core/test_*.py | sed -n '1~2p' | grep -v -e /test_farm -e /test_cast)

core-even:
	$(BIN)/python -m unittest $$(ls tests/core/test_*.py | sed -n '2~2p') tests/core/test_farm.py tests/core/test_cast.py \
		$(patsubst %,tests/studio/test_%.py,$(WITH_EVEN))

studio:
	$(BIN)/python -m unittest $$(ls tests/studio/test_*.py | grep -v $(patsubst %,-e /test_%.py,$(WITH_EVEN)))

browser: .venv/.test .venv/.compiled $(PAGE)
	@echo "— The real interface in Chromium"
	$(BIN)/unittest-parallel -s tests/browser -t . -p 'test_*.py' --level class

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
