# The README's two commands: `make demo` shows the tool at work, `make test` proves it.
# Each makes its own virtual environment with what it needs.
PYTHON ?= python3
RUN = .venv/run
DEV = .venv/dev

.PHONY: demo test bench clean

demo: $(RUN)/.ready
	$(RUN)/bin/wexicon demo

test: $(DEV)/.ready
	$(DEV)/bin/ruff check .
	$(DEV)/bin/ruff format --check .
	$(DEV)/bin/mypy
	$(DEV)/bin/python -m pytest

bench: $(DEV)/.ready
	$(DEV)/bin/python -m benchmarks

$(RUN)/.ready: pyproject.toml $(shell find src -name '*.py' -o -path 'src/*.toml' -o -path 'src/*.wex')
	$(PYTHON) -m venv $(RUN)
	$(RUN)/bin/python -m pip install --quiet --disable-pip-version-check .
	touch $@

$(DEV)/.ready: pyproject.toml
	$(PYTHON) -m venv $(DEV)
	$(DEV)/bin/python -m pip install --quiet --disable-pip-version-check --editable '.[dev]'
	touch $@

clean:
	rm -rf .venv .mypy_cache .ruff_cache .pytest_cache
