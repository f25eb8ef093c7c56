# Everything happens in a virtual environment of this folder. `make demo` and `make test` are all that is needed.

PYTHON ?= $(shell command -v python3.11 || command -v python3)
VENV := .venv
BIN := $(VENV)/bin
INSTALLED := $(VENV)/.installed

.PHONY: demo test samples real check bench fuzz assemble shots clean

demo: $(INSTALLED)
	rm -rf workshop
	$(BIN)/mending demo workshop

test: $(INSTALLED)
	$(BIN)/python -m tests $(MODULES)

samples: $(INSTALLED)
	$(BIN)/python -m tests.samples

real: $(INSTALLED)
	$(BIN)/python -m tests.real

check: $(INSTALLED)
	$(BIN)/ruff check .
	$(BIN)/ruff format --check .
	$(BIN)/mypy
	$(BIN)/lint-imports
	$(MAKE) test

bench: $(INSTALLED)
	$(BIN)/python -m benchmarks

fuzz: $(INSTALLED)
	$(BIN)/python -m benchmarks.fuzz $(MUTATIONS)

assemble:
	for source in src/mending/*/code/*.asm; do nasm -f bin -o $${source%.asm}.bin $$source || exit 1; done

shots: $(INSTALLED)
	$(BIN)/python docs/shots.py

clean:
	rm -rf $(VENV) workshop build src/*.egg-info

$(INSTALLED): pyproject.toml
	$(PYTHON) -c 'import sys; sys.exit(sys.version_info < (3, 11) and "Python 3.11 or later is needed: make PYTHON=/path/to/python3.11")'
	$(PYTHON) -m venv $(VENV)
	$(BIN)/pip install --quiet --editable '.[dev]'
	touch $(INSTALLED)
