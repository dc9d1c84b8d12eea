# `make demo` and `make test` do all the set-up there is, in .venv.

PYTHON ?= python3
VENV := .venv
PIP := $(VENV)/bin/python -m pip install --quiet --disable-pip-version-check
SOURCES := pyproject.toml setup.py $(wildcard src/polygene/kernels/*.py src/polygene/kernels/*.pxd) \
    src/polygene/table/grammar.py src/polygene/table/cql2.lark

.PHONY: demo test test-formats package random lint pages bench clean

demo: $(VENV)/installed
	$(VENV)/bin/polygene demo demo

# Where no compiled bytes may be kept, each start of the program would compile all of it.
test: $(VENV)/for-tests
	env -u PYTHONDONTWRITEBYTECODE $(VENV)/bin/python -m tests.run

# Readers of the formats by others, in JavaScript, look at what we write.
test-formats: $(VENV)/for-tests
	if command -v npm > /dev/null; then \
	    npm install --prefix tests/readers --ignore-scripts --no-fund --no-audit --silent \
	    || rm -rf tests/readers/node_modules; \
	fi
	if [ -d tests/readers/node_modules ]; then $(VENV)/bin/python -m tests.run tests.readers; \
	else echo "skipped: the readers of others cannot be had here"; fi

# 2,000 random cases of every operation, the engine proving its own work in each.
random: $(VENV)/for-tests
	POLYGENE_CASES=2000 POLYGENE_KILLS=20 POLYGENE_MANGLED=900 POLYGENE_ALL=1 POLYGENE_ROUND_TRIPS=120 \
	    $(VENV)/bin/python -m tests.run tests.random tests.commit.test_together tests.formats.test_mangled \
	    tests.formats.test_proof tests.formats.test_lifting tests.ops.test_shapes tests.ops.test_clip \
	    test_same test_taking_part test_bridge test_terminal test_commands test_golden test_plain globe \
	    test_web test_by_key test_by_place test_matched test_changes plane.test_proof test_flatgeobuf \
	    test_workers test_maps test_clauses test_round_trips test_covering ops.test_overlays test_crs_coded \
	    test_geopackage test_far_edges test_nearly test_turns tests.plane.test_crowds tests.plane.test_heaps \
	    test_location plane.test_nearness test_noding plane.test_sheets plane.test_validity test_casting \
	    test_rows test_aggregate test_settings

lint: $(VENV)/for-tests
	$(VENV)/bin/ruff check .
	$(VENV)/bin/ruff format --check .
	$(VENV)/bin/mypy
	tests/pages/lint/run

# The pages that are made and not written: what each command says, and the schema of --json.
pages: $(VENV)/for-tests
	$(VENV)/bin/python -m polygene.cli.schema > docs/output.schema.json.new
	mv docs/output.schema.json.new docs/output.schema.json
	$(VENV)/bin/python -m polygene.finding > docs/words.md
	$(VENV)/bin/python -m polygene.cli.manual man
	$(VENV)/bin/python -m tests.golden

# The archives, and the wheel in an environment of its own, with the demo.
package: $(VENV)/for-tests
	rm -rf build/dist build/try
	$(PIP) build
	$(VENV)/bin/python -m build --quiet --outdir build/dist .
	$(PYTHON) -m venv build/try
	build/try/bin/python -m pip install --quiet --disable-pip-version-check build/dist/*.whl
	cd build/try && bin/polygene demo demo > /dev/null && bin/polygene check demo/tolva.gpkg --strict

bench: $(VENV)/for-tests
	$(VENV)/bin/python -m benchmarks

$(VENV)/installed: $(SOURCES)
	test -x $(VENV)/bin/python || $(PYTHON) -m venv $(VENV)
	$(PIP) --editable .
	mkdir -p $(VENV)/share/man/man1  # an editable install leaves the manual out
	cp man/*.1 $(VENV)/share/man/man1
	touch $@

# What only the tests need, as pyproject.toml lists it, and a browser; the install itself stays as it is.
$(VENV)/for-tests: $(VENV)/installed
	$(VENV)/bin/python -c "import tomllib; project = tomllib.load(open('pyproject.toml', 'rb')); \
	print(*project['project']['optional-dependencies']['test'], sep='\n')" > $(VENV)/for-tests.txt
	$(PIP) --requirement $(VENV)/for-tests.txt
	$(PIP) playwright || echo "no browser can be driven: tests of pages will be skipped"
	command -v chromium > /dev/null || { test "$$(id -u)" = 0 && apt-get -qq update \
	    && apt-get -qq --yes install chromium > /dev/null; } || echo "no Chromium can be had here"
	touch $@

clean:
	rm -rf $(VENV) build demo src/polygene.egg-info
	rm -f src/polygene/kernels/*.c src/polygene/kernels/*.so
