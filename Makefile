# make demo   set up, then walk through Fiat on its sample host
# make test   set up, then lint, types and tests
# make bench  set up, then measure (as root, with a C compiler); BENCH="--entries 2000000" and the like choose what
# Both make their own virtual environment in .venv, from pinned and hashed packages.

PYTHON ?= python3
VENV := .venv
BIN := $(VENV)/bin
PIP := $(BIN)/python -m pip --disable-pip-version-check --quiet
SOURCES := $(shell find src -type f -not -path '*/__pycache__/*')

.PHONY: demo test check bench lock clean

demo: $(VENV)/fiat.stamp
	@$(BIN)/fiat demo

test: check
	$(BIN)/python -m pytest -n auto

check: $(VENV)/test.stamp $(VENV)/fiat.stamp
	$(BIN)/ruff check .
	$(BIN)/ruff format --check .
	$(BIN)/mypy

$(VENV)/run.stamp: requirements/run.txt
	$(PYTHON) -m venv $(VENV)
	$(PIP) install --require-hashes -r requirements/run.txt
	@touch $@

$(VENV)/fiat.stamp: $(VENV)/run.stamp pyproject.toml README.md LICENSE $(SOURCES)
	$(PIP) install --no-deps --no-build-isolation --force-reinstall .
	@touch $@

$(VENV)/test.stamp: $(VENV)/run.stamp requirements/test.txt
	$(PIP) install --require-hashes -r requirements/test.txt
	@touch $@

bench: $(VENV)/fiat.stamp
	$(BIN)/python bench/measure.py $(BENCH)

# Take newer packages: resolves requirements/*.in again and writes the pins.
lock: $(VENV)/run.stamp
	$(PIP) install uv
	for name in run test; do \
	    $(BIN)/uv pip compile --quiet --upgrade --python-version 3.11 --generate-hashes --no-header \
	        --no-annotate --no-emit-index-url requirements/$$name.in -o requirements/$$name.txt || exit 1; done

clean:
	rm -rf $(VENV) build dist
