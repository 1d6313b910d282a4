PYTHON ?= python3.11
VENV := .venv
BIN := $(VENV)/bin

.PHONY: install demo test bench scenes count lint lock

install: $(VENV)/.compiled

# kernels, compiled once for the code as it is, so that neither the first start nor the first test waits for it
$(VENV)/.compiled: $(VENV)/.installed $(shell find src/eaveplane/imaging src/eaveplane/optics src/eaveplane/core src/eaveplane/fieldcam -name '*.py')
	$(BIN)/python -m eaveplane.pipeline.warm
	touch $@

$(VENV)/.installed: requirements.lock pyproject.toml
	test -x $(BIN)/python || $$(command -v $(PYTHON) || command -v python3) -m venv $(VENV)
	$(BIN)/python -m pip install --quiet --disable-pip-version-check -r requirements.lock
	$(BIN)/python -m pip install --quiet --disable-pip-version-check --no-deps -e .
	touch $@

demo: install
	$(BIN)/eaveplane demo

lint: install
	$(BIN)/ruff check src tests bench
	$(BIN)/mypy

test: lint chromium
	$(BIN)/pytest

.PHONY: chromium
chromium:
	@command -v chromium >/dev/null || (apt-get update -q && DEBIAN_FRONTEND=noninteractive apt-get install -q -y chromium)

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
