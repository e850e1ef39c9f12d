# `make demo` and `make test` do all the set-up themselves; the rest is for working on the project.
PYTHON ?= python3
PORT ?= 8765
DEMO := .demo
PY := .venv/bin/python
BENCHES := efforts formats packing sites fuzz kills plan estimates reuse score proofs intake nothing memory faults record rewrite hand_off doors
# Written by hand; docs/reference is generated, except one page.
MARKDOWN = $(shell find . docs -maxdepth 1 -name "*.md") $(shell find docs/decisions docs/explanation docs/how-to -name "*.md") docs/reference/exit-statuses.md
STATIC := src/young_prism/web/static
# What installing the project compiles; a change installs it again.
COMPILED := hatch_build.py src/young_prism/core/score/metric.c

# Compiled modules are kept: without them every process that is started compiles all of them again.
export PYTHONDONTWRITEBYTECODE :=

.PHONY: demo demo-reset dependencies lock test compiler test-tools run-tests test-under-load check unit-tests coverage mutation lint format css schema reference docs dist readability bench $(BENCHES:%=bench-%) screenshots clean

SITE := src/young_prism/documentation/index.html

demo: .venv/.run $(SITE)
	@.venv/bin/young-prism demo --data $(DEMO) --port $(PORT)

demo-reset: .venv/.run
	@.venv/bin/young-prism demo --data $(DEMO) --port $(PORT) --reset

# A machine with Python but without its venv module gets that from Debian's packages.
.venv/bin/python:
	@$(PYTHON) -c 'import sys; sys.exit(sys.version_info < (3, 11))' || { echo "Young Prism needs Python 3.11 or newer; say which with PYTHON=..."; exit 1; }
	@rm -rf .venv; $(PYTHON) -m venv .venv 2>/dev/null || { rm -rf .venv; sh tools/install-debian python3-venv && $(PYTHON) -m venv .venv; }

# The very versions that were tested, each file checked by its hash.
.venv/.run: pyproject.toml requirements/run.txt $(COMPILED) | .venv/bin/python
	@echo "Installing what Young Prism needs (once) ..."
	@sh tools/install-packages requirements/run.txt
	@touch $@

.venv/.test: pyproject.toml requirements/dev.txt $(COMPILED) | .venv/bin/python
	@sh tools/install-packages requirements/dev.txt
	@touch $@ .venv/.run

# Writes requirements/*.txt anew from pyproject.toml, for all systems and Python versions; no host of a registry is in them.
LOCK := --universal --python-version 3.11 --generate-hashes --no-header --no-annotate --quiet
lock: | .venv/bin/python
	.venv/bin/python -m pip install --quiet --require-hashes --requirement requirements/uv.txt
	echo 'uv>=0.9,<1' | .venv/bin/uv pip compile - $(LOCK) --upgrade -o requirements/uv.txt
	.venv/bin/uv pip compile pyproject.toml requirements/build.in --extra dev $(LOCK) --upgrade -o requirements/dev.txt
	.venv/bin/uv pip compile pyproject.toml requirements/build.in $(LOCK) --constraint requirements/dev.txt --upgrade -o requirements/run.txt

# Says how long the installation took, which is not the tests' time.
test:
	@begun=$$(date +%s); $(MAKE) --no-print-directory test-tools && echo "Installed what the tests need in $$(( $$(date +%s) - begun )) s."
	@$(MAKE) --no-print-directory --jobs=2 lint run-tests

test-tools: compiler .venv/.test
	@sh tools/install-debian chromium:chromium chromium-headless-shell:chromium-headless-shell exiftool:libimage-exiftool-perl webpinfo:webp avifdec:libavif-bin djxl:libjxl-tools file:file nginx:nginx-light apache2:apache2-bin git:git curl:curl

# Before the installation, which compiles the score: tests compare it with the portable one.
compiler:
	@sh tools/install-debian cc:gcc

run-tests: .venv/.test $(SITE)
	@.venv/bin/pytest

# About an hour.
test-under-load: test-tools
	@sh tools/test-under-load

# The quick loop: no browser, no server, nothing that wants root.
check: .venv/.test
	@$(MAKE) --no-print-directory --jobs=2 lint unit-tests

unit-tests: .venv/.test
	@.venv/bin/pytest -n 2 tests/core tests/services tests/store

# How much of the code tests reach, by package; fails where one falls by more than two points below docs/contributing.md.
coverage: test-tools
	@rm -rf .coverage && mkdir .coverage
	@.venv/bin/coverage run -m pytest --timeout 300
	@.venv/bin/coverage combine --quiet
	@$(PY) -m tools.coverage_by_package

# Mutation testing of a part of the core. mutmut has an environment of its own, which sees the packages of the other.
mutation: .venv/.test
	@test -x .venv/mutation/bin/mutmut || { $(PYTHON) -m venv .venv/mutation && .venv/mutation/bin/pip install --quiet 'mutmut>=3.3,<4'; }
	@$(PY) -c 'import sysconfig; print(sysconfig.get_path("purelib"))' > "$$(.venv/mutation/bin/python -c 'import sysconfig; print(sysconfig.get_path("purelib"))')/main.pth"
	@PATH="$$PWD/.venv/mutation/bin:$$PATH" mutmut run
	@PATH="$$PWD/.venv/mutation/bin:$$PATH" $(PY) -m tools.mutation_score

lint: .venv/.test
	.venv/bin/ruff check .
	.venv/bin/ruff format --check .
	.venv/bin/mypy
	.venv/bin/lint-imports --no-logo 2>/dev/null || .venv/bin/lint-imports
	$(PY) -m tools.check_names
	$(PY) -m tools.check_prose
	.venv/bin/mdformat --check $(MARKDOWN)

format: .venv/.test
	.venv/bin/ruff check --fix .
	.venv/bin/ruff format .
	.venv/bin/mdformat $(MARKDOWN)

# Needs Node; the result is committed, so running and testing do not.
css:
	npm install --silent --no-save  # not "npm ci": it refuses lock files without registry addresses
	mkdir -p $(STATIC)/fonts
	cp node_modules/@fontsource-variable/hanken-grotesk/files/hanken-grotesk-latin-wght-normal.woff2 $(STATIC)/fonts/hanken-grotesk-latin.woff2
	cp node_modules/@fontsource-variable/hanken-grotesk/files/hanken-grotesk-latin-ext-wght-normal.woff2 $(STATIC)/fonts/hanken-grotesk-latin-ext.woff2
	cp node_modules/@fontsource-variable/hanken-grotesk/LICENSE $(STATIC)/fonts/hanken-grotesk-LICENSE.txt
	cp node_modules/@fontsource-variable/source-code-pro/files/source-code-pro-latin-wght-normal.woff2 $(STATIC)/fonts/source-code-pro-latin.woff2
	cp node_modules/@fontsource-variable/source-code-pro/files/source-code-pro-latin-ext-wght-normal.woff2 $(STATIC)/fonts/source-code-pro-latin-ext.woff2
	cp node_modules/@fontsource-variable/source-code-pro/LICENSE $(STATIC)/fonts/source-code-pro-LICENSE.txt
	npx tailwindcss --input styles/app.css --output $(STATIC)/app.css --minify
	$(PYTHON) -m tools.stamp_css

dependencies: .venv/.test
	$(PY) -m tools.list_dependencies

# The documentation as a site that the application serves at /docs; a warning or a picture over the budget is an error.
docs: .venv/.run
	$(PY) -m tools.docs.build
	@echo "Open $(SITE)"

$(SITE): mkdocs.yml $(shell find docs tools/docs -type f -not -path '*/__pycache__/*') | .venv/.run
	@echo "Building the documentation ..."
	@$(PY) -m tools.docs.build

# The source distribution and the wheel, in dist.
dist: .venv/.test $(SITE)
	@rm -rf dist
	$(PY) -m build --no-isolation
	.venv/bin/twine check --strict dist/*

readability: .venv/.test
	$(PY) -m tools.readability

reference: .venv/.test
	$(PY) -m tools.write_reference

schema: .venv/.test
	$(PY) -m tools.write_schemas

$(BENCHES:%=bench-%): bench-%: .venv/.test
	$(PY) -m bench.$*

bench: .venv/.test
	$(PY) -m bench.build

screenshots: .venv/.test
	$(PY) -m tools.screenshots

clean:
	rm -rf .venv .demo .docs node_modules build dist src/young_prism/documentation
