# Two commands do all the set-up on a fresh Debian machine with Python 3.11: make demo, make test.
PYTHON ?= python3
VENV := .venv
BIN := $(VENV)/bin
HOST ?= 127.0.0.1
PORT ?= 8127
DATA ?= data
# Scripts and styles; what is generated or comes from elsewhere is left out by .prettierignore.
DRAWN := "fernfield/web/**/*.{js,ts,css}"

.PHONY: demo test lint types test-steady soak mutants system-packages bench screenshots lock reach

demo: $(VENV)/run.done
	$(BIN)/fernfield demo --host $(HOST) --port $(PORT) --data $(DATA)

test: system-packages $(VENV)/dev.done lint
	$(BIN)/pytest -n 2 --dist loadfile --no-loadscope-reorder tests

lint: $(VENV)/dev.done
	$(BIN)/ruff check fernfield tests tools
	$(BIN)/ruff format --check fernfield tests tools
	$(BIN)/mypy
	$(BIN)/lint-imports
	$(MAKE) --no-print-directory types

# The scripts, checked against the answers of the API as its OpenAPI document describes them.
types: $(VENV)/js.done
	$(BIN)/python tools/openapi.py $(VENV)/js/openapi.json
	$(BIN)/node $(VENV)/js/node_modules/openapi-typescript/bin/cli.js $(VENV)/js/openapi.json -o fernfield/web/static/js/api.d.ts >/dev/null
	$(BIN)/node $(VENV)/js/node_modules/typescript/bin/tsc -p tools/types/tsconfig.json
	$(BIN)/node $(VENV)/js/node_modules/prettier/bin/prettier.cjs --log-level warn --check $(DRAWN)

# The browser tests ten times over, while both processors are kept busy by something else: none may fail.
test-steady: system-packages $(VENV)/dev.done
	$(BIN)/python tools/steady.py

# Ten thousand random edits, undos, jobs, cancels and kills against a plain model of what was acknowledged.
soak: $(VENV)/dev.done
	$(BIN)/python tools/soak.py

# Changes places of the core, one at a time, and sees whether the tests that concern it notice.
mutants: $(VENV)/dev.done
	$(BIN)/python tools/mutants.py

bench: $(VENV)/dev.done
	$(BIN)/fernfield bench

screenshots: system-packages $(VENV)/dev.done
	$(BIN)/python tools/screenshots.py

# The browser of the tests, and GDAL's own tools as a yardstick.
system-packages:
	@if ! command -v chromium-headless-shell >/dev/null || ! command -v gdaldem >/dev/null; then \
	  SUDO=$$(command -v sudo || true); [ "$$(id -u)" = 0 ] && SUDO=; \
	  $$SUDO apt-get update -q && $$SUDO env DEBIAN_FRONTEND=noninteractive apt-get install -y -q --no-install-recommends chromium-headless-shell gdal-bin; \
	fi

$(VENV)/run.done: requirements.lock pyproject.toml
	@echo "Installing $$(grep -c == requirements.lock) packages into $(VENV), about a minute the first time …"
	$(PYTHON) -m venv $(VENV) || { echo "python3 -m venv does not work here: install python3-venv"; exit 1; }
	$(BIN)/python -m pip install -q --disable-pip-version-check -r requirements.lock
	$(BIN)/python -m pip install -q --disable-pip-version-check --no-deps -e .
	touch $@

$(VENV)/dev.done: $(VENV)/run.done requirements-dev.lock
	$(BIN)/python -m pip install -q --disable-pip-version-check -r requirements-dev.lock
	touch $@

$(VENV)/js.done: tools/types/package.json $(VENV)/dev.done
	mkdir -p $(VENV)/js && cp tools/types/package.json $(VENV)/js/
	PATH="$$PWD/$(BIN):$$PATH" $(BIN)/npm install --prefix $(VENV)/js --no-audit --no-fund --no-package-lock --silent
	touch $@

# Sallow Reach anew by its commands, and kept beside the code.
reach: $(VENV)/run.done
	$(BIN)/python tools/demo.py

# Renew the two lock files from pyproject.toml.
lock: $(VENV)/dev.done
	$(BIN)/python tools/lock.py
