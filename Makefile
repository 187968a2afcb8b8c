# Every target sets up its own virtual environment first: nothing is needed but Python 3.11, venv and make.
PYTHON ?= $(shell command -v python3.11 || command -v python3)
VENV := .venv
BIN := $(VENV)/bin
STAMP := $(VENV)/ready
DEMO ?= demo
REAL ?= real

# Tests and measurements start the program hundreds of times: what it has compiled is kept.
unexport PYTHONDONTWRITEBYTECODE

.PHONY: demo test bench bench-all codecs fuzz faults splices real wheel wheel-test man screenshots reference lint compiled clean

demo: $(STAMP)
	rm -rf $(DEMO)
	$(BIN)/boxkite demo $(DEMO)

test: $(STAMP)
	$(BIN)/python -m pytest -n 3 --dist loadgroup

bench: $(STAMP)
	$(BIN)/python bench/targets.py

bench-all: $(STAMP)
	$(BIN)/python bench/looking.py
	$(BIN)/python bench/planning.py
	$(BIN)/python bench/speed.py
	$(BIN)/python bench/batches.py
	$(BIN)/python bench/checking.py
	$(BIN)/python bench/sending.py
	$(BIN)/python bench/splicing.py
	$(BIN)/python bench/chunks.py

codecs: $(STAMP)
	BOXKITE_EVERY_CODEC=1 $(BIN)/python -m pytest tests/cli/test_presets.py tests/core/test_detect.py -k "every_codec or restless"
	BOXKITE_EVERY_CODEC=1 $(BIN)/python -m pytest tests/cli/test_verify.py tests/cli/test_chunks.py
	BOXKITE_EVERY_CODEC=1 $(BIN)/python -m pytest tests/cli/test_batches.py -k memory
	BOXKITE_LOOPS=720 BOXKITE_SHOTS=500 BOXKITE_FILES=50 $(BIN)/python -m pytest tests/cli/test_long.py \
		tests/cli/test_review_page.py tests/cli/test_watch.py -k "long_film or hundreds or all_fates"

fuzz: $(STAMP)
	BOXKITE_FUZZ=1200 $(BIN)/python -m pytest -n 2 tests/core/test_fuzz.py

faults: $(STAMP)
	$(BIN)/python -m tests.faults.everything
	BOXKITE_CUTS=20 BOXKITE_KILLS=20 $(BIN)/python -m pytest tests/cli/test_send.py tests/cli/test_after.py tests/cli/test_batches.py -k "broken or breaks or killed"

wheel-test: $(STAMP)
	BOXKITE_WHEEL=1 $(BIN)/python -m pytest tests/cli/test_wheel.py

splices: $(STAMP)
	$(BIN)/python -m tests.splices.everything
	$(BIN)/python -m tests.splices.in_browser

real: $(STAMP)
	$(BIN)/python -m tests.real.everything $(REAL)

wheel: $(STAMP)
	$(BIN)/python -m build --outdir dist

screenshots: $(STAMP)
	$(BIN)/python tools/screenshots.py

man: $(STAMP)
	$(BIN)/python tools/manual.py build/man/man1

reference: $(STAMP)
	$(BIN)/python tools/reference.py
	$(BIN)/python tools/schemas.py

lint: $(STAMP)
	$(BIN)/ruff check .
	$(BIN)/ruff format --check .
	$(BIN)/mypy

compiled: $(STAMP)
	$(BIN)/python setup.py --quiet build_ext --inplace

clean:
	rm -rf $(VENV) demo

$(STAMP): pyproject.toml setup.py
	@$(PYTHON) -c 'import venv, ensurepip' || \
	  { echo "Python 3.11 with venv is needed: apt-get install python3.11 python3.11-venv"; exit 1; }
	$(PYTHON) -m venv --clear $(VENV)
	$(BIN)/python -m pip install --quiet --disable-pip-version-check -e ".[dev]"
	touch $(STAMP)
