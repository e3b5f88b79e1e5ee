# Two commands do everything on a fresh machine: make demo and make test. They need git, make and Python 3.11 or newer.
PYTHON ?= $(shell for p in python3.13 python3.12 python3.11 python3 python; do \
	command -v $$p >/dev/null 2>&1 && $$p -c 'import sys; sys.exit(sys.version_info < (3, 11))' 2>/dev/null \
	&& { echo $$p; break; }; done)
BIN := .venv/bin
# Tests start hundreds of processes, which would else compile Kanal anew.
export PYTHONDONTWRITEBYTECODE :=
# Tests wait for servers and disks much of the time.
WORKERS ?= $(shell echo $$((2 * $$(getconf _NPROCESSORS_ONLN))))
PIP := $(BIN)/pip install --quiet --disable-pip-version-check

.PHONY: demo test coverage lint types imports site package check clean

demo: .venv/kanal
	$(BIN)/kanal demo kanal-demo

test: .venv/ready
	$(BIN)/pytest -n $(WORKERS) --dist worksteal $(TESTS)

coverage: .venv/ready
	$(BIN)/pytest -n $(WORKERS) --dist worksteal --cov --cov-branch --cov-report= $(TESTS)
	$(BIN)/coverage report --skip-covered --fail-under=85

lint: .venv/ready
	$(BIN)/ruff check src tests benchmarks
	$(BIN)/ruff format --check src tests benchmarks

types: .venv/ready
	$(BIN)/mypy

imports: .venv/ready
	$(BIN)/lint-imports

site: .venv/site
	NO_MKDOCS_2_WARNING=1 $(BIN)/mkdocs build --strict --quiet --site-dir build/site

package: .venv/ready
	rm -rf dist
	$(BIN)/python -m build --outdir dist .

check: lint types imports test site

.venv/kanal: pyproject.toml
	@test -n "$(PYTHON)" || { echo "Kanal needs Python 3.11 or newer; none was found."; exit 1; }
	$(PYTHON) -m venv .venv
	$(PIP) --upgrade pip  # older ones take minutes to see which versions go together
	$(PIP) -e .
	touch $@

.venv/ready: .venv/kanal
	$(PIP) -e '.[dev]'
	touch $@

.venv/site: .venv/kanal
	$(PIP) -e '.[site]'
	touch $@

clean:
	rm -rf .venv kanal-demo build dist .pytest_cache .mypy_cache .ruff_cache .hypothesis
