# Two commands do all the set-up on a fresh Debian machine with Python 3.11: make demo, make test.
PYTHON ?= python3
VENV := .venv
BIN := $(VENV)/bin
HOST ?= 127.0.0.1
PORT ?= 8127
DATA ?= data

.PHONY: demo test lint system-packages bench screenshots lock

demo: $(VENV)/run.done
	$(BIN)/fernfield demo --host $(HOST) --port $(PORT) --data $(DATA)

test: system-packages $(VENV)/dev.done lint
	$(BIN)/pytest --cov --cov-report=term:skip-covered tests

lint: $(VENV)/dev.done
	$(BIN)/ruff check fernfield tests tools
	$(BIN)/ruff format --check fernfield tests tools
	$(BIN)/mypy
	$(BIN)/lint-imports

bench: $(VENV)/dev.done
	$(BIN)/fernfield bench

screenshots: system-packages $(VENV)/dev.done
	$(BIN)/python tools/screenshots.py

# The browser of the tests, and GDAL's own tools as a yardstick.
system-packages:
	@if ! command -v chromium >/dev/null || ! command -v gdaldem >/dev/null; then \
	  SUDO=$$(command -v sudo || true); [ "$$(id -u)" = 0 ] && SUDO=; \
	  $$SUDO apt-get update -q && $$SUDO env DEBIAN_FRONTEND=noninteractive apt-get install -y -q --no-install-recommends chromium gdal-bin; \
	fi

$(VENV)/run.done: requirements.lock pyproject.toml
	$(PYTHON) -m venv $(VENV) || { echo "python3 -m venv does not work here: install python3-venv"; exit 1; }
	$(BIN)/python -m pip install -q --disable-pip-version-check -r requirements.lock
	$(BIN)/python -m pip install -q --disable-pip-version-check --no-deps -e .
	touch $@

$(VENV)/dev.done: $(VENV)/run.done requirements-dev.lock
	$(BIN)/python -m pip install -q --disable-pip-version-check -r requirements-dev.lock
	touch $@

# Renew the two lock files from pyproject.toml.
lock: $(VENV)/dev.done
	$(BIN)/python tools/lock.py
