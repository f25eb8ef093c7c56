# Everything happens in a virtual environment of this folder. `make demo` and `make test` are all that is needed.

PYTHON ?= $(shell command -v python3.11 || command -v python3)
VENV := .venv
BIN := $(VENV)/bin
INSTALLED := $(VENV)/.installed
# Python keeps what it compiled, as in a program that was installed by pip; hundreds of starts need it.
unexport PYTHONDONTWRITEBYTECODE

.PHONY: demo test bare quick samples real kinds check looks coverage covered docs bench fuzz guided corpus mutants teach assemble shots clean

demo: $(INSTALLED)
	rm -rf workshop
	$(BIN)/mending demo workshop

# Tests write thousands of small files and wait for each of them to be on the disk, which takes a third
# of their time: in memory where there is room.
ROOMY := $(shell [ "$$(df --output=avail -k /dev/shm 2>/dev/null | tail -1)" -gt 8000000 ] 2>/dev/null && echo /dev/shm)
test: export TMPDIR := $(or $(TMPDIR),$(ROOMY),/tmp)

# Many tests wait for a machine or a medium, so half as many again as processors run side by side.
BESIDE := $(shell n=$$(nproc 2>/dev/null || echo 2); echo $$((n + n / 2)))

# All tests, a class at a time on every processor; or the named ones: make test TESTS=tests.test_mend.Journal
test: $(INSTALLED)
ifdef TESTS
	$(BIN)/python -m unittest $(TESTS)
else
	$(BIN)/unittest-parallel -q -j $(BESIDE) -t . -s tests --level class
endif

# The tests that use what a machine need not have, where all of it is hidden: each skips with its reason.
# NOTES is the file that `make test` wrote with MENDING_NOTES=FILE. Needs root.
bare: $(INSTALLED)
	$(BIN)/python -c 'import sys; from tests import bare; sys.exit(bare.run("$(NOTES)"))'

# The tests that need little time and no system program, for while one works.
QUICK := docs codes maps findings confirmed

quick: $(INSTALLED)
	$(BIN)/python -m unittest -q $(addprefix tests.test_,$(QUICK))

# The share of the lines that ran, the programs that the tests start included: of all tests, which
# takes an hour, or of the few that run nearly every line (as the map of `make mutants` tells).
COVERING := \
	boot_code_runs.Refuses boot_code_runs.Starts boot_entries.Entries boot_options.Read case.Flow \
	codes.Command codes.Tables docs.Docs evidence.Disks evidence.Hardware evidence.Logs \
	findings.Tables folders.Traced guid_tables.AnyBytes guid_tables.Identities histories.Runs \
	hostile_trees.Beside hostile_trees.Packages knowledge.Content linux_chain.Chain \
	linux_chain.LostEntries linux_chain.Names linux_chain.Readers linux_system.Behind loaders.Others \
	maps.Maps memory_disks.Shipped mend.Journals parsers.Unreadable planning.Bound planning.Why \
	program.AtTheKeyboard program.WithoutExtras rare_findings.Grub rare_findings.Tables \
	readers.Streams real_systems.Tree reason.FromTraces samples.Samples search.Candidate shown.Words \
	source_edges.Durable source_edges.Opened source_edges.Overlays sources.Files sources.Patched \
	statements.Sentences statements.Told volumes.FileTable
MEASURED = $(BIN)/coverage run -m unittest -q

coverage: $(INSTALLED)
	rm -f .coverage .coverage.*
	$(MEASURED) discover -t . -s tests
	$(BIN)/coverage combine -q
	$(BIN)/coverage report --skip-covered --sort=cover | tail -40

covered: $(INSTALLED)
	rm -f .coverage .coverage.*
	printf 'tests.test_%s\n' $(COVERING) | xargs -n 9 -P 2 $(MEASURED)
	$(BIN)/coverage combine -q
	$(BIN)/coverage report --skip-covered --sort=cover | tail -20

docs: $(INSTALLED)
	$(BIN)/python docs/generate.py

samples: $(INSTALLED)
	$(BIN)/python -m tests.samples

real: $(INSTALLED)
	$(BIN)/python -m tests.real

# Systems of many kinds, really started, broken, mended and started again: make kinds KINDS="lvm raid". Needs
# root, and hours for all of them; what came out stays in build/kinds/results.json.
kinds: $(INSTALLED)
	$(BIN)/python -m tests.kinds $(KINDS)

check: looks
	$(MAKE) test

# What is seen without running anything: style, types, floors.
looks: $(INSTALLED)
	$(BIN)/ruff check .
	$(BIN)/ruff format --check .
	$(BIN)/mypy
	$(BIN)/lint-imports

bench: $(INSTALLED)
	$(BIN)/python -m benchmarks

fuzz: $(INSTALLED)
	$(BIN)/python -m benchmarks.fuzz $(MUTATIONS)

# A fuzzer guided by the lines it reaches, over every reader: make guided SECONDS=60
guided: $(INSTALLED)
	$(BIN)/pip install --quiet --editable '.[guided]'
	$(BIN)/python -m benchmarks.guided $(SECONDS)

# The inputs that it begins with made anew: the fewest that reach what all that were found reach.
corpus: $(INSTALLED)
	$(BIN)/pip install --quiet --editable '.[guided]'
	$(BIN)/python -m benchmarks.guided --keep

# Do the tests notice small changes of a room? make mutants ROOM=repair COUNT=300; with AGAIN=again only those
# that nothing noticed the last time.
mutants: $(INSTALLED)
	$(BIN)/pip install --quiet --editable '.[mutants]'
	$(BIN)/python -m benchmarks.mutants $(ROOM) $(COUNT) $(AGAIN)

# The model for the second opinion on what callers say, made anew from the labelled sentences.
teach: $(INSTALLED)
	$(BIN)/pip install --quiet --editable '.[teach]'
	$(BIN)/python -m benchmarks.teach

assemble:
	for source in $$(find src/mending -path '*/code/*.asm'); do nasm -f bin -o $${source%.asm}.bin $$source || exit 1; done

shots: $(INSTALLED)
	$(BIN)/python docs/shots.py

clean:
	rm -rf $(VENV) workshop build src/*.egg-info

$(INSTALLED): pyproject.toml
	$(PYTHON) -c 'import sys; sys.exit(sys.version_info < (3, 11) and "Python 3.11 or later is needed: make PYTHON=/path/to/python3.11")'
	$(PYTHON) -m venv $(VENV)
	$(BIN)/pip install --quiet --editable '.[dev]'
	touch $(INSTALLED)
