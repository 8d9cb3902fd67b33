# Every target does its own set-up: a machine with only Python is enough.
PYTHON ?= python3
VENV := .venv
BIN := $(VENV)/bin

.PHONY: demo test quick check lock newest lowest mutations bench differential faults launchers services strangers screenshots clean

# The lock file has every library with its version and hash, so a commit passes as long as they exist.
# uv installs them in seconds; pip takes a minute, and does it where uv does not reach the packages.
$(VENV)/.ready: pyproject.toml requirements/dev.txt
	$(PYTHON) -m venv $(VENV)
	sed -n '/^uv==/,/[^\\]$$/p' requirements/dev.txt >$(VENV)/uv.txt
	$(BIN)/pip install --quiet --no-deps --require-hashes --requirement $(VENV)/uv.txt
	$(BIN)/uv pip install --quiet --python $(BIN)/python --require-hashes --requirement requirements/dev.txt || \
	  $(BIN)/pip install --quiet --require-hashes --requirement requirements/dev.txt
	$(BIN)/pip install --quiet --no-deps --no-build-isolation --editable .
	touch $@

demo: $(VENV)/.ready
	.ci/programs perl:perl tclsh:tcl node:nodejs cargo:cargo
	$(BIN)/wolfbane demo

# The program is started some two thousand times: compile it once, whatever the environment says.
# The tests of a file run in one process, one after the other: many share what takes long to make.
# Five processes: tests wait for browsers and services, and with four two cores are often idle.
test: $(VENV)/.ready
	.ci/programs perl:perl tclsh:tcl node:nodejs cargo:cargo
	$(BIN)/python -m compileall -q src
	$(BIN)/python -m pytest -n 5 --dist loadscope --no-loadscope-reorder

# The tests of the rooms that the uncommitted changes touch; SINCE=main takes those since a revision.
quick: $(VENV)/.ready
	$(BIN)/python -m benchmarks.quick $(SINCE)

check: $(VENV)/.ready
	$(BIN)/ruff check
	$(BIN)/ruff format --check
	$(BIN)/mypy
	$(BIN)/lint-imports

# Choose the newest versions for the lock file, and the lowest declared ones for `make lowest`.
LOCK := $(BIN)/uv pip compile --quiet --universal --generate-hashes --python-version 3.11 \
  --custom-compile-command 'make lock' --no-header --no-emit-index-url

lock: $(VENV)/.ready
	$(LOCK) --upgrade --extra dev --output-file requirements/dev.txt pyproject.toml
	$(LOCK) --upgrade --resolution lowest-direct --extra grammars --extra postgresql --extra cluster \
	  --output-file requirements/lowest.txt pyproject.toml requirements/smoke.in

# The smoke tests with the newest libraries, and with the lowest versions that are declared.
newest lowest:
	.ci/versions $@

# Random sequences of commands in browsers, and random faults. The tests draw a few of each.
SEQUENCES ?= 1000
COUNT ?= 1000
SEED ?=

differential: $(VENV)/.ready
	SEQUENCES=$(SEQUENCES) $(BIN)/python -m pytest -n 2 tests/test_differential.py

faults: $(VENV)/.ready
	$(BIN)/python -m benchmarks.faults --count $(COUNT) $(if $(SEED),--seed $(SEED))

# Random API services that keep their own account of every request.
services: $(VENV)/.ready
	$(BIN)/python -m benchmarks.services $(if $(SEED),--seed $(SEED))

# Projects from elsewhere, fetched into a cache: every outcome against the runtimes' own runners.
strangers: $(VENV)/.ready
	$(BIN)/python -m benchmarks.strangers $(if $(SEED),--seed $(SEED))

# Launchers in many languages: learnt from two commands, every outcome against their instructions.
launchers: $(VENV)/.ready
	$(BIN)/python -m benchmarks.launchers --written

# Break 60 random lines, and see whether the tests of their rooms notice. It can take an hour.
mutations: $(VENV)/.ready
	$(BIN)/python -m benchmarks.mutations

bench: $(VENV)/.ready
	$(BIN)/python -m compileall -q src
	$(BIN)/python benchmarks/startup.py
	$(BIN)/python benchmarks/figures.py
	$(BIN)/python benchmarks/broker.py
	$(BIN)/python benchmarks/reports.py
	$(BIN)/python benchmarks/bridges.py
	$(BIN)/python benchmarks/load.py
	$(BIN)/python benchmarks/machines.py
	$(BIN)/python benchmarks/scale.py

screenshots: $(VENV)/.ready
	$(BIN)/python docs/screenshots/make.py

clean:
	rm -rf $(VENV) build dist .mypy_cache .ruff_cache
