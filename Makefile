# The README's two commands: `make demo` shows the tool at work, `make test` proves it; `make test-all` adds what takes long,
# `make campaign` what takes very long: it writes its results to docs/proof.md.
# Each makes its own virtual environment with what it needs; where Python lacks the means for one, apt brings them.
PYTHON ?= python3
RUN = .venv/run
DEV = .venv/dev
SOURCES = $(shell find src -name '*.py' -o -name '*.toml' -o -name '*.wex')
# Compiled files are kept, whatever the machine has set: each worker would compile everything anew.
export PYTHONDONTWRITEBYTECODE =
AS_ROOT = $(shell [ "$$(id -u)" = 0 ] || echo sudo)

.PHONY: demo test test-all campaign site bench venv compiler browser shells postgresql clean

demo: $(RUN)/.ready
	$(RUN)/bin/wexicon demo

# The types are checked while the tests wait for their ports.
test: $(DEV)/.ready | postgresql
	$(DEV)/bin/ruff check .
	$(DEV)/bin/ruff format --check .
	$(DEV)/bin/mypy & types=$$!; $(DEV)/bin/python -m pytest && wait $$types

# The types are checked for other systems too.
test-all: test | compiler browser shells
	for system in win32 darwin; do $(DEV)/bin/mypy --platform $$system --cache-dir .mypy_cache/$$system || exit 1; done
	$(DEV)/bin/python -m pytest -m long

campaign: $(DEV)/.ready | postgresql
	$(DEV)/bin/python -m benchmarks.campaign $(CAMPAIGN)

site: $(DEV)/.ready
	$(DEV)/bin/mkdocs build --quiet

bench: $(DEV)/.ready
	$(DEV)/bin/python -m benchmarks

venv:
	@$(PYTHON) -c 'import ensurepip, venv' 2>/dev/null || \
		($(AS_ROOT) apt-get update -qq && $(AS_ROOT) apt-get install -y -qq python3-venv)

compiler:
	@command -v cc >/dev/null || \
		($(AS_ROOT) apt-get update -qq && $(AS_ROOT) env DEBIAN_FRONTEND=noninteractive apt-get install -y -qq gcc libc6-dev)

browser:
	@command -v chromium >/dev/null || \
		($(AS_ROOT) apt-get update -qq && $(AS_ROOT) env DEBIAN_FRONTEND=noninteractive apt-get install -y -qq chromium)

# Completion is tried in each.
shells:
	@command -v zsh >/dev/null && command -v fish >/dev/null || \
		($(AS_ROOT) apt-get update -qq && $(AS_ROOT) env DEBIAN_FRONTEND=noninteractive apt-get install -y -qq zsh fish)

# The tests start a server of their own.
postgresql:
	@command -v postgres >/dev/null || ls /usr/lib/postgresql/*/bin/postgres >/dev/null 2>&1 || \
		($(AS_ROOT) apt-get update -qq && $(AS_ROOT) env DEBIAN_FRONTEND=noninteractive apt-get install -y -qq postgresql)

$(RUN)/.ready: pyproject.toml $(SOURCES) | venv
	$(PYTHON) -m venv $(RUN)
	$(RUN)/bin/python -m pip install --quiet --disable-pip-version-check '.[report]'
	touch $@

$(DEV)/.ready: pyproject.toml | venv
	$(PYTHON) -m venv $(DEV)
	$(DEV)/bin/python -m pip install --quiet --disable-pip-version-check --editable '.[dev]'
	touch $@

clean:
	rm -rf .venv .mypy_cache .ruff_cache .pytest_cache
