# Everything a fresh machine needs: `make demo` and `make test`.
PYTHON ?= python3
VENV := .venv
BIN := $(VENV)/bin

# The tests run the program hundreds of times: it is compiled once, whatever the environment says.
export PYTHONDONTWRITEBYTECODE :=

.PHONY: demo test units check lowest bench soak media screenshots clean

demo: $(VENV)/installed
	$(BIN)/mudlark tour

test: $(VENV)/ready chromium
	@$(MAKE) --no-print-directory --jobs 2 check units  # tests wait a lot; meanwhile the code is looked through

units: $(VENV)/ready
	$(BIN)/python -m pytest -m "not soak"

check: $(VENV)/ready
	$(BIN)/ruff format --check .
	$(BIN)/ruff check .
	$(BIN)/mypy

# The lowest versions that pyproject.toml allows are true: the core passes its tests with them (by .ci/run, too).
lowest:
	test -x $(VENV)-lowest/bin/python || $(PYTHON) -m venv $(VENV)-lowest
	$(PYTHON) tools/lowest.py > $(VENV)-lowest/constraints.txt
	$(VENV)-lowest/bin/python -m pip install --quiet --upgrade pip
	$(VENV)-lowest/bin/python -m pip install --quiet --no-compile --editable ".[archive,report,browser,sheets]" \
	  --constraint $(VENV)-lowest/constraints.txt pytest pytest-timeout pytest-xdist hypothesis jsonschema pandas
	$(VENV)-lowest/bin/python -m pytest -m "not soak and not program and not browser" \
	  --ignore tests/test_cluster.py --ignore tests/test_schemas.py

soak: $(VENV)/ready
	$(BIN)/python -m pip install --quiet --editable ".[fuzz]"
	$(BIN)/python -m pytest -m soak -n 0 --timeout 1800

bench: $(VENV)/installed
	$(BIN)/python bench/table.py  # all that is promised; the others look closer, or at something else
	$(BIN)/python bench/tap.py
	$(BIN)/python bench/har.py
	$(BIN)/python bench/shelf.py
	$(BIN)/python bench/sweep.py

media: $(VENV)/installed
	$(BIN)/python tools/make_demo_media.py

screenshots: $(VENV)/ready
	$(BIN)/python tools/make_screenshots.py

$(VENV)/installed: pyproject.toml
	test -x $(BIN)/python || $(PYTHON) -m venv $(VENV)
	$(BIN)/python -m pip install --quiet --editable ".[archive,report]"
	touch $@

# With all that tests need. A new pip takes half of the time, and of the libraries only what is used is compiled.
$(VENV)/ready: pyproject.toml
	test -x $(BIN)/python || $(PYTHON) -m venv $(VENV)
	$(BIN)/python -m pip install --quiet --upgrade pip
	$(BIN)/python -m pip install --quiet --no-compile --editable ".[dev]"
	touch $(VENV)/installed $@

# The independent judge of what plays. Debian's package; sudo only where it is needed.
.PHONY: chromium
chromium:
	@command -v chromium >/dev/null || { \
	  root=$$(test "$$(id -u)" = 0 || echo sudo); \
	  $$root apt-get update -qq && DEBIAN_FRONTEND=noninteractive $$root apt-get install -y -qq --no-install-recommends chromium; }

clean:
	rm -rf $(VENV) $(VENV)-lowest .mypy_cache .ruff_cache .pytest_cache .hypothesis tour tour-*
