# Two commands do everything on a fresh machine: make demo, make test.
PY ?= python3
VENV := .venv
BIN := $(VENV)/bin
PIP := $(BIN)/python -m pip install --quiet --disable-pip-version-check
STAMP := $(VENV)/.installed
TESTS := $(VENV)/.tests-installed

.PHONY: demo test quick bench lint browser scripts docs clean

# What runs. Kernels are compiled while the application is already in use, by processes of its own (core/ways/prepare.py)
$(STAMP): requirements.lock pyproject.toml
	$(PY) -m venv $(VENV)
	$(PIP) -r requirements.lock
	$(PIP) --no-deps --no-build-isolation -e .
	$(BIN)/python -m compileall -q silent_loom # Python may be told not to keep byte code by itself; it takes a third of a second a start
	touch $(STAMP)

# What tests and builds need besides
$(TESTS): $(STAMP) requirements-dev.lock
	$(PIP) -r requirements-dev.lock
	$(BIN)/python -m silent_loom.core.ways.prepare
	touch $(TESTS)

demo: $(STAMP)
	$(BIN)/silent-loom serve --demo --data build/demo

# Two workers: the browser's tests on one, the others on the other and then on both
test: $(TESTS) browser
	$(BIN)/python -m silent_loom.core.ways.prepare
	$(BIN)/python -m pytest -n 2 --dist loadscope --durations 15

# An answer in three minutes: everything but the browser and the slow tests (tools/slow_tests.py makes the list anew)
quick: $(TESTS)
	$(BIN)/python -m pytest -n 2 --dist loadscope --quick

# Chromium from Debian's packages, and the npm packages that tests and lint use; skipped when they are there
browser: scripts
	@command -v chromium >/dev/null || { $(if $(filter 0,$(shell id -u)),,sudo) apt-get update -qq && $(if $(filter 0,$(shell id -u)),,sudo) env DEBIAN_FRONTEND=noninteractive apt-get install -y -qq --no-install-recommends chromium >/dev/null; }

scripts:
	@command -v npm >/dev/null || { $(if $(filter 0,$(shell id -u)),,sudo) apt-get update -qq && $(if $(filter 0,$(shell id -u)),,sudo) env DEBIAN_FRONTEND=noninteractive apt-get install -y -qq --no-install-recommends npm >/dev/null; }
	@test -d tools/vendor/node_modules/mikktspace || { cd tools/vendor && npm ci --ignore-scripts --no-audit --no-fund --silent; }

lint: $(TESTS) scripts
	$(BIN)/ruff check .
	$(BIN)/ruff format --check .
	$(BIN)/mypy
	tools/vendor/node_modules/.bin/prettier --check --log-level warn "silent_loom/web/static/js/**/*.{js,ts}"
	tools/vendor/node_modules/.bin/tsc --project .

bench: $(TESTS)
	$(BIN)/python -m bench

# The page of steps, from their declarations
docs: $(TESTS)
	$(BIN)/python -m tools.step_docs

clean:
	rm -rf $(VENV) build
