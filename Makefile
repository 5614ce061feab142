# Every target sets up what it needs: a fresh machine with Python 3.11 or newer is enough.
PYTHON ?= python3
VENV := .venv
BIN := $(VENV)/bin

# Tests and trials start hundreds of processes: what these import is compiled once.
unexport PYTHONDONTWRITEBYTECODE

.PHONY: demo test campaigns coverage lint bench torture year mutants screenshots clean

$(VENV)/.ready: pyproject.toml
	$(PYTHON) -c 'import sys; sys.exit(sys.version_info < (3, 11) and "Historon needs Python 3.11 or newer (set PYTHON=/path/to/python3.11)")'
	$(PYTHON) -m venv $(VENV)
	$(BIN)/python -m pip install --quiet --disable-pip-version-check --editable '.[dev]'
	touch $@

demo: $(VENV)/.ready
	$(BIN)/historon demo

test: $(VENV)/.ready
	$(BIN)/python -m pytest -n auto --dist worksteal -m "not campaign"

# Short forms of the trials below (a year of faults, a month, kills, hostile exports), and cases of which make test plays some.
# With K only those whose names match: make campaigns K="month or kill"
campaigns: $(VENV)/.ready
	$(BIN)/python -m pytest -n auto --dist worksteal -m campaign $(if $(K),-k "$(K)")

# Twenty minutes on two cores with Python 3.12 or newer, which tells of lines by itself; with an older one hours. Tests that look at
# what is loaded fail under it.
coverage: $(VENV)/.ready
	rm -f .coverage .coverage.*
	-COVERAGE_CORE=`$(BIN)/python -c 'import sys; print("sysmon" if sys.version_info >= (3, 12) else "ctrace")'` \
	$(BIN)/coverage run -m pytest -n auto
	$(BIN)/coverage combine --quiet
	$(BIN)/coverage report

lint: $(VENV)/.ready
	$(BIN)/ruff check .
	$(BIN)/ruff format --check .
	$(BIN)/mypy

bench: $(VENV)/.ready
	$(BIN)/python -m bench

torture: $(VENV)/.ready
	$(BIN)/python -m torture

mutants: $(VENV)/.ready
	$(BIN)/python -m tools.mutants

SEED ?= 1
year: $(VENV)/.ready
	$(BIN)/python -m year --seed $(SEED)
	$(BIN)/python -m year.keeping --seed $(SEED)

screenshots: $(VENV)/.ready
	$(BIN)/python tools/screenshots.py

clean:
	rm -rf $(VENV) .mypy_cache .pytest_cache .ruff_cache .hypothesis
