# make demo   set up, then walk through Fiat on its sample host
# make test   set up, then lint, types and all tests
# make quick  set up, then lint, types and the tests that need neither root nor minutes
# make docs   set up, then build the site into build/site and the manual pages into build/man
# make packages   set up, then build sdist, wheel and the Debian package into dist
# make wheels   build the wheels with the compiled part, for each kind of machine, into dist
# make bench  set up, then measure (as root, with a C compiler); BENCH="--large" and the like choose what
# All of them make their own virtual environment in .venv, from pinned and hashed packages; Fiat itself is
# installed there so that it runs from src as it stands.

PYTHON ?= python3
VENV := .venv
BIN := $(VENV)/bin
PIP := $(BIN)/python -m pip --disable-pip-version-check --quiet

# Fiat runs from src, so what Python compiles is kept, whatever the environment says: it starts in half the time.
unexport PYTHONDONTWRITEBYTECODE

.PHONY: demo test quick quick-tests check docs packages wheels bench lock clean

demo: $(VENV)/fiat.stamp
	@$(BIN)/fiat demo

test: check
	$(BIN)/python -m pytest -n auto --dist worksteal --durations 25

quick: check quick-tests

quick-tests: $(VENV)/test.stamp $(VENV)/fiat.stamp
	$(if $(NATIVE),FIAT_NATIVE=$(NATIVE)) $(BIN)/python -m pytest -n auto --dist worksteal -m "not root and not slow"

check: $(VENV)/test.stamp $(VENV)/fiat.stamp
	$(BIN)/ruff check .
	$(BIN)/ruff format --check .
	$(BIN)/mypy

$(VENV)/run.stamp: requirements/run.txt
	$(PYTHON) -m venv $(VENV)
	$(PIP) install --require-hashes -r requirements/run.txt
	@touch $@

$(VENV)/fiat.stamp: $(VENV)/run.stamp pyproject.toml scripts/fiat hatch_build.py $(wildcard native/*)
	$(PIP) install --no-deps --no-build-isolation --editable .
	@touch $@

$(VENV)/test.stamp: $(VENV)/run.stamp requirements/test.txt
	$(PIP) install --require-hashes -r requirements/test.txt
	@touch $@

docs: $(VENV)/test.stamp $(VENV)/fiat.stamp
	$(BIN)/python scripts/documentation.py

packages: $(VENV)/test.stamp $(VENV)/fiat.stamp
	$(BIN)/python scripts/package.py

# with a virtual environment of its own: the compiler for all machines is large
wheels: requirements/wheels.txt
	$(PYTHON) -m venv .venv-wheels
	.venv-wheels/bin/python -m pip --disable-pip-version-check --quiet install --require-hashes -r requirements/wheels.txt
	PATH="$(CURDIR)/.venv-wheels/bin:$$PATH" .venv-wheels/bin/python scripts/package.py wheels

bench: $(VENV)/fiat.stamp
	$(BIN)/python bench/measure.py $(BENCH)

# Take newer packages: resolves requirements/*.in again and writes the pins.
lock: $(VENV)/run.stamp
	$(PIP) install uv
	for name in run test wheels; do \
	    $(BIN)/uv pip compile --quiet --upgrade --python-version 3.11 --generate-hashes --no-header \
	        --no-annotate --no-emit-index-url requirements/$$name.in -o requirements/$$name.txt || exit 1; done

clean:
	rm -rf $(VENV) .venv-* build dist
