# `make demo` and `make test` do all the set-up there is, in .venv.

PYTHON ?= python3
VENV := .venv
SOURCES := pyproject.toml setup.py $(wildcard src/polygene/kernels/*.py src/polygene/kernels/*.pxd)

.PHONY: demo test lint bench clean

demo: $(VENV)/installed
	$(VENV)/bin/polygene demo demo

test: $(VENV)/installed
	$(VENV)/bin/python -m tests.run

lint: $(VENV)/installed
	$(VENV)/bin/ruff check .
	$(VENV)/bin/ruff format --check .
	$(VENV)/bin/mypy

bench: $(VENV)/installed
	$(VENV)/bin/python -m benchmarks

$(VENV)/installed: $(SOURCES)
	test -x $(VENV)/bin/python || $(PYTHON) -m venv $(VENV)
	$(VENV)/bin/python -m pip install --quiet --disable-pip-version-check --editable '.[test]'
	touch $@

clean:
	rm -rf $(VENV) build demo src/polygene.egg-info
	rm -f src/polygene/kernels/*.c src/polygene/kernels/*.so
