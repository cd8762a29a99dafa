# Everything that a fresh machine with Python ≥ 3.11 and Node.js ≥ 20 needs is done by these.

PYTHON ?= python3
VENV := .venv
BIN := $(VENV)/bin
WEB := src/invio/service/web/index.html
CONSOLE_SOURCES := $(shell find browser console/src console/public console/scripts -type f) console/index.html \
	console/vite.config.js console/vite.browser.config.js console/tsconfig.json console/package.json
PORT ?= 8480
DATA ?= demo-data
# Most tests wait for a service, so more of them run at a time than there are cores; in the order of tests/conftest.py.
SIDE_BY_SIDE ?= -n 3 --dist loadfile --no-loadscope-reorder

# Tests and measurements start many processes, which are not to compile the same modules each time.
export PYTHONDONTWRITEBYTECODE =

.PHONY: setup demo test test-again test-lowest test-lowest-again test-newest torture bench lint format types check-types clean

setup: $(VENV)/.ready $(WEB)

$(VENV)/.ready: pyproject.toml constraints.txt
	$(PYTHON) tools/check_machine.py
	$(PYTHON) -m venv $(VENV)
	PIP_CONSTRAINT=$(CURDIR)/constraints.txt $(BIN)/python -m pip install --quiet --editable '.[dev]'
	touch $@

console/node_modules/.ready: console/package.json console/package-lock.json
	cd console && npm ci
	touch $@

$(WEB): console/node_modules/.ready $(CONSOLE_SOURCES)
	cd console && npm run --silent build
	touch $@

demo: setup
	$(BIN)/invio demo --port $(PORT) --data $(DATA)

test: setup
	sh tools/debian_packages.sh chromium curl unzip 7z=p7zip-full bsdtar=libarchive-tools aria2c=aria2 pg_lsclusters=postgresql
	sh tools/front_server.sh
	cd console && npm run --silent test
	$(BIN)/python -m pytest $(SIDE_BY_SIDE) $(ARGS)

# What failed among others, once more and by itself: some tests hold what takes time to a bound, and a machine that
# stands still for seconds passes it. What fails again has failed.
test-again: setup
	$(BIN)/python -m pytest -p no:xdist --last-failed --last-failed-no-failures none $(ARGS)

# The lower bounds in pyproject.toml are true, and what is newest still works: without browsers and long trials.
QUICK := tests/core tests/records tests/stores tests/workers tests/producers tests/embedding tests/cli tests/service_parts
build/lowest/bin/pytest: pyproject.toml $(VENV)/.ready
	mkdir -p build
	$(BIN)/python tools/lowest_versions.py > build/lowest.txt
	$(PYTHON) -m venv --clear build/lowest
	PIP_CONSTRAINT=$(CURDIR)/build/lowest.txt build/lowest/bin/python -m pip install --quiet --editable '.[dev]'

test-lowest: setup build/lowest/bin/pytest
	build/lowest/bin/python -m pytest $(SIDE_BY_SIDE) $(QUICK)

# As test-again, for these.
test-lowest-again: setup build/lowest/bin/pytest
	build/lowest/bin/python -m pytest -p no:xdist --last-failed --last-failed-no-failures none $(QUICK)

test-newest: setup
	mkdir -p build
	$(PYTHON) -m venv --clear build/newest
	build/newest/bin/python -m pip install --quiet --upgrade --editable '.[dev]'
	build/newest/bin/python -m pytest $(SIDE_BY_SIDE) $(QUICK)

# What docs/security.md promises, tried as often as it says.
torture: setup
	sh tools/debian_packages.sh curl unzip bsdtar=libarchive-tools
	mkdir -p build && rm -f build/torture.txt
	INVIO_TORTURE=1 INVIO_TORTURE_REPORT=$(CURDIR)/build/torture.txt \
		$(BIN)/python -m pytest tests/torture tests/service/test_http.py tests/service/test_archives.py --timeout 1500 -p no:xdist $(ARGS); \
		status=$$?; cat build/torture.txt; exit $$status

bench: setup
	$(BIN)/python -m bench

lint: setup
	$(BIN)/ruff format --check .
	$(BIN)/ruff check .
	$(BIN)/mypy
	$(BIN)/lint-imports
	$(BIN)/vulture
	cd console && npm run --silent lint && node scripts/trim-lock.js --check
	$(MAKE) --no-print-directory check-types

# The console's types are made from the API's own description.
types: $(VENV)/.ready console/node_modules/.ready
	mkdir -p build
	$(BIN)/python tools/openapi.py > build/openapi.json
	cd console && npm run --silent types

check-types: types
	@git diff --exit-code --stat -- console/src/api/schema.gen.ts \
		|| (echo "the console's types are not those of the API: commit what 'make types' wrote"; exit 1)

format: setup
	$(BIN)/ruff format .
	$(BIN)/ruff check --fix .
	cd console && npx prettier --write --log-level warn .

clean:
	rm -rf $(VENV) build console/node_modules src/invio/service/web
