# Each target does all its own set-up, in .venv; PYTHON names another interpreter (3.11 or newer).
PYTHON ?= python3
VENV ?= .venv
ifeq ($(OS),Windows_NT)
BIN := $(VENV)/Scripts
else
BIN := $(VENV)/bin
endif
READY := $(VENV)/.ready
DEMO ?= demo-fathomline

.PHONY: demo test lint bench screenshots clean

$(READY): pyproject.toml
	$(PYTHON) -m venv $(VENV)
	$(BIN)/python -m pip install --quiet --disable-pip-version-check -e '.[dev]'
	touch $(READY)

demo: $(READY)  ## the whole example, told by the real commands, in $(DEMO)
	$(BIN)/python -c "import shutil; shutil.rmtree('$(DEMO)', ignore_errors=True)"
	$(BIN)/python -m rellum demo $(DEMO)

test: $(READY)  ## all tests; ends with a line that counts them
	$(BIN)/python -m tools.run_tests

lint: $(READY)  ## style and types
	$(BIN)/ruff check .
	$(BIN)/ruff format --check .
	$(BIN)/mypy

bench: $(READY)  ## what is fast, beside what a user would use instead; see benchmarks/README.md
	$(BIN)/python -m benchmarks.run

screenshots: $(READY)  ## docs/screenshots from the demo; needs Xvfb, xterm and ImageMagick
	$(BIN)/python -m tools.screenshots

clean:
	$(PYTHON) -c "import shutil; [shutil.rmtree(d, ignore_errors=True) for d in ('$(VENV)', '$(DEMO)', 'build', 'dist')]"
