# What a developer types. Each target makes what it needs, on a machine with Python and make.

PYTHON ?= python3
VENV   ?= .venv
BIN    := $(VENV)/bin
READY  := $(VENV)/.ready
COUNTERPARTS := $(VENV)/.counterparts
STICK  := dist/portcall.pyz
WHEEL  := dist/portcall-$(shell sed -n 's/^__version__ = "\(.*\)"/\1/p' src/portcall/__init__.py)-py3-none-any.whl
SOURCES := $(shell find src -type f -not -path '*.egg-info/*' -not -path '*__pycache__*')

# Programs that tests start would all be compiled anew where this is set.
unexport PYTHONDONTWRITEBYTECODE

# Tests wait more than they work, and practice plants are isolated from each other.
SIDE_BY_SIDE := -n $(shell expr 5 \* $$(nproc)) --dist loadgroup --no-loadscope-reorder

# Wine's server may stall on a busy computer: what failed there is tried once more.
ON_WINDOWS = $(BIN)/pytest -n $(shell expr 3 \* $$(nproc)) --dist loadgroup --no-loadscope-reorder tests/commands tests/windows

.PHONY: demo test quick long windows check bench fuzz screenshots words guide man wheel stick setup-user clients clean

demo: $(READY)            ## the whole job on the practice plant
	$(BIN)/portcall demo

test: $(READY) clients $(COUNTERPARTS) $(STICK) $(WHEEL)    ## every test; real clients where they can be had
	$(BIN)/pytest $(SIDE_BY_SIDE)

quick: $(COUNTERPARTS)    ## in a minute: the tests that need no practice plant, and do not take long
	$(BIN)/pytest -n $(shell expr 1 + $$(nproc)) --dist loadgroup --ignore tests/commands -m "not long"

long: export PORTCALL_TEST_MOMENTS = all
long: test                ## every test, and each kill at every moment

windows: export PORTCALL_WINDOWS = $(abspath .windows)
windows: $(READY) clients $(COUNTERPARTS) $(STICK) $(WHEEL)    ## the tool in a Python for Windows, under Wine; installs what that needs
	PYTHON=$(BIN)/python ./tests/windows/interpreter.sh $(PORTCALL_WINDOWS)
	$(ON_WINDOWS) || $(ON_WINDOWS) --last-failed

check: $(READY)           ## lint, format, types, import rules
	$(BIN)/ruff check .
	$(BIN)/ruff format --check .
	$(BIN)/mypy
	MYPYPATH=src $(BIN)/mypy --config-file= --strict --platform win32 src/portcall/system src/portcall/host/windows
	$(BIN)/lint-imports

bench: $(READY) $(COUNTERPARTS)           ## speed, as ratios against a stated limit
	$(BIN)/python benchmarks/startup.py
	$(BIN)/python benchmarks/match.py
	$(BIN)/python benchmarks/sweep.py
	$(BIN)/python benchmarks/bare.py
	$(BIN)/python benchmarks/plant.py
	$(BIN)/python benchmarks/serve.py
	$(BIN)/python benchmarks/storm.py
	$(BIN)/python benchmarks/reach.py
	$(BIN)/python benchmarks/diagnosis.py
	$(BIN)/python benchmarks/record.py
	$(BIN)/python benchmarks/inside.py

fuzz: $(READY)            ## a million damaged messages through every parser
	$(BIN)/python fuzz/parsers.py

screenshots: $(READY) $(COUNTERPARTS)     ## docs/screenshots/*.png from the demo data
	./docs/screenshots/tools.sh
	$(BIN)/python docs/screenshots/take.py

words: $(READY)           ## every sentence that the program can say
	$(BIN)/python docs/words.py

guide: $(READY)           ## docs/guide.md, by typing it all on the practice plant
	$(BIN)/python docs/guide.py

man: $(READY)             ## docs/man, made of the commands and the topics
	$(BIN)/python docs/man.py

wheel: $(WHEEL)           ## the package, as pip installs it

$(WHEEL): $(READY) pyproject.toml README.md $(SOURCES) $(wildcard docs/man/*)
	rm -rf build $@
	$(BIN)/pip wheel --quiet --disable-pip-version-check --no-deps --wheel-dir dist .
	@touch $@

AS_ROOT := $(shell [ $$(id -u) = 0 ] || echo sudo)

setup-user: $(READY)      ## so that no command here needs sudo
	$(AS_ROOT) $(abspath $(BIN))/portcall setup --yes --group $$(id -gn)

stick: $(STICK)           ## the whole tool in one file, for a computer without network

$(STICK): $(READY) pyproject.toml $(SOURCES) $(wildcard stick/*)
	$(BIN)/python stick/build.py $@

clients:
	@./tests/clients.sh

$(READY): pyproject.toml
	@$(PYTHON) -c 'import ensurepip' 2>/dev/null || apt-get install -y -q python3-venv
	$(PYTHON) -m venv $(VENV)
	$(BIN)/pip install --quiet --disable-pip-version-check -e '.[dev]'
	@touch $@

$(COUNTERPARTS): $(READY)
	$(BIN)/pip install --quiet --disable-pip-version-check -e '.[counterparts,patterns,report,sign,team]'
	@touch $@

clean:
	rm -rf $(VENV) .windows build dist .mypy_cache .ruff_cache .pytest_cache .hypothesis .import_linter_cache
