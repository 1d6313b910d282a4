PYTHON ?= python3.11
VENV := .venv
BIN := $(VENV)/bin

.PHONY: help install demo test fast bench scenes count lint lock

help:
	@echo "make demo    set everything up and open the page on the demo's outing"
	@echo "make test    set up what tests need and run them all"
	@echo "make fast    lint, and tests without a browser or anything marked slow"
	@echo "make bench   measure quality and speed, write docs/quality.md"
	@echo "make count   lines of program and tests"
	@echo "make lint, make scenes, make lock    see CONTRIBUTING.md"

install: $(VENV)/.compiled

# modules, which every process would compile anew where it may not keep them, and kernels: once for the code as it is, so that neither the first start nor the first test waits for it
$(VENV)/.compiled: $(VENV)/.installed $(shell find src/eaveplane/imaging src/eaveplane/optics src/eaveplane/core src/eaveplane/fieldcam -name '*.py')
	$(BIN)/python -m compileall -q src
	$(BIN)/python -m eaveplane.pipeline.warm
	touch $@

$(VENV)/.installed: requirements.lock pyproject.toml
	test -x $(BIN)/python || $$(command -v $(PYTHON) || command -v python3) -m venv $(VENV)
	$(BIN)/python -m pip install --quiet --disable-pip-version-check -r requirements.lock
	$(BIN)/python -m pip install --quiet --disable-pip-version-check --no-deps -e .
	touch $@

demo: install
	$(BIN)/eaveplane demo

lint: $(VENV)/.installed
	$(BIN)/ruff check src tests bench
	$(BIN)/mypy

# one core checks types, and compiles the tests once for all workers, while the other compiles kernels
test: export PYTHONDONTWRITEBYTECODE =
test: chromium $(VENV)/.installed
	$(MAKE) -j 2 lint collected install
	$(BIN)/pytest

.PHONY: collected
collected: $(VENV)/.installed lint
	$(BIN)/pytest --collect-only -qq -n 0

fast: install lint
	$(BIN)/pytest --ignore tests/browser -m "not slow"

.PHONY: chromium
chromium:
	@command -v chromium-headless-shell >/dev/null || (apt-get update -q && DEBIAN_FRONTEND=noninteractive apt-get install -q -y chromium-headless-shell) || command -v chromium

bench: install
	$(BIN)/python bench/run.py

# the pictures of the landscapes on the camera's page
scenes: install
	$(BIN)/python bench/scenes.py

count:
	@sh bench/count.sh

# pins what is installed now; run it in a fresh environment after changing pyproject.toml
lock:
	$(BIN)/python -m pip freeze --exclude-editable --exclude eaveplane > requirements.lock
