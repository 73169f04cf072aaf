# Every target makes its own .venv and installs what it needs.
PYTHON ?= python3
VENV := .venv
BIN := $(VENV)/bin
SOAK ?= 100
# Test processes at a time; 0: as many as there are cores.
JOBS ?= 0
# Where tests make their files: in memory, if there is room for them, so that nothing waits for a disk.
FAST := $(shell test "$$(df --output=avail /dev/shm 2>/dev/null | tail -n 1)" -gt 4000000 2>/dev/null && echo /dev/shm || echo $${TMPDIR:-/tmp})
# The newest Python from 3.11 on that the machine has under a usual name.
FOUND := $(firstword $(foreach name,$(PYTHON) python3 python3.13 python3.12 python3.11 python,$(shell $(name) -c 'import sys; print("$(name)" if sys.version_info >= (3, 11) else "")' 2>/dev/null)))

.PHONY: demo test soak lint types bench screenshots clean

demo: $(VENV)/ready  ## the whole job on made-up data, in a minute
	@rm -rf larkmoor
	@$(BIN)/plainstep demo larkmoor

test: $(VENV)/ready-dev  ## all tests, or those whose names contain one of TESTS; a class at a time on each core
	@TMPDIR=$(FAST) $(BIN)/python -m unittest_parallel --quiet --level class -j $(JOBS) -t . -s tests $(addprefix -k ,$(TESTS))

soak: $(VENV)/ready-dev  ## the long form of the fuzzed properties: SOAK times as many examples
	@PLAINSTEP_SOAK=$(SOAK) $(BIN)/python -m unittest -v tests.test_chains

lint: $(VENV)/ready-dev
	@$(BIN)/ruff check . && $(BIN)/ruff format --check . && $(BIN)/lint-imports --no-logo

types: $(VENV)/ready-dev
	@$(BIN)/mypy && $(BIN)/mypy examples/nightly.py && $(BIN)/basedpyright --level error examples/nightly.py src/plainstep/__init__.py

bench: $(VENV)/ready-bench  ## every benchmark, beside hand-written peers
	@for file in collapse step capture memory startup postgres mysql feeds small_files streams lake check shapes many_loads cluster sql; do $(BIN)/python -m benchmarks.$$file || exit 1; done

screenshots: $(VENV)/ready-dev  ## the pictures in docs/screenshots (needs Xvfb, xterm and ImageMagick)
	@docs/screenshots/take

clean:
	rm -rf $(VENV) larkmoor build *.egg-info src/*.egg-info .mypy_cache .ruff_cache .hypothesis

$(VENV)/made:
	@test -n "$(FOUND)" || { echo "Plain Step needs Python 3.11 or later; name one: make PYTHON=/path/to/python"; exit 1; }
	@$(FOUND) -m venv $(VENV)
	@$(BIN)/python -m pip install -q --disable-pip-version-check --upgrade pip
	@touch $@

$(VENV)/ready: $(VENV)/made pyproject.toml
	@$(BIN)/python -m pip install -q --disable-pip-version-check -e .
	@touch $@

$(VENV)/ready-dev: $(VENV)/made pyproject.toml
	@$(BIN)/python -m pip install -q --disable-pip-version-check -e '.[all]' --group dev
	@touch $@ $(VENV)/ready

$(VENV)/ready-bench: $(VENV)/made pyproject.toml
	@$(BIN)/python -m pip install -q --disable-pip-version-check -e '.[all]' --group bench
	@touch $@
