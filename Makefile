# make demo    set up what is missing, build, and start the program with the demo sessions
# make test    set up what is missing and run every test and check
# make serve   start the program on your own sessions
# make attack  attack the program far more often than make test does (N times)
# make bench   measure speed and detection (CORPUS=folder for detection on a labelled corpus)

PORT ?= 8130
CORPUS ?= tests/corpus
N ?= 20
# with more, what plays in real time is no longer fast enough for a hand that has to act within a loop
PROCESSES ?= $(shell nproc)
PY := .venv/bin/python
SUDO := $(shell [ "$$(id -u)" = 0 ] || echo sudo)
PYTHON_FILES := $(shell find src -name '*.py')
FRONT_FILES := $(shell find frontend/src frontend/public -type f -not -name schema.d.ts) frontend/index.html frontend/hand.html frontend/vite.config.ts

export PYTHONDONTWRITEBYTECODE =
export UV_NO_PROGRESS = 1

.PHONY: demo serve test attack late bench pictures wheel lock lint lint-python lint-rules lint-format lint-types lint-imports lint-front \
	lint-front-types lint-front-rules test-front clean

demo: .build/ready
	.venv/bin/nivelus demo --port $(PORT)

serve: .build/ready
	.venv/bin/nivelus serve --port $(PORT)

# what does not need each other goes side by side: compiling and the page, types and the tests of the front end
test:
	$(MAKE) -j2 --output-sync .build/ready .build/tools
	$(MAKE) -j2 --output-sync lint-python lint-front test-front
	$(PY) -m pytest -n $(PROCESSES) --dist worksteal tests

# the same attacks, N times as many: make attack N=20
attack: .build/ready .build/tools
	$(PY) -m pytest -s tests/attack --attack $(N)

# the late page with N other seeds: make late N=50
late: .build/ready
	LATE_SEEDS="$$(seq 100 $$((99 + $(N))) | tr '\n' ' ')" $(PY) -m pytest -n 2 tests/browser/test_late.py

# every tool tells what it finds, whatever the others found
lint: .build/ready
	$(MAKE) -k lint-python lint-front

lint-python: lint-rules lint-format lint-types lint-imports

lint-rules: .build/ready
	.venv/bin/ruff check src tests bench

lint-format: .build/ready
	.venv/bin/ruff format --check src tests bench

lint-types: .build/ready
	.venv/bin/mypy

lint-imports: .build/ready
	.venv/bin/lint-imports

lint-front: lint-front-types lint-front-rules

lint-front-types: .build/ready
	cd frontend && npm run -s check

lint-front-rules: .build/ready
	cd frontend && npm run -s lint

test-front: .build/ready
	cd frontend && npm run -s test

# the pictures of the README, from the demo: all, or make pictures ONLY="phrases-day keys"
pictures: .build/ready .build/tools
	$(PY) -m tests.pictures $(ONLY)

bench: .build/ready .build/tools .build/bench
	$(PY) -m bench.speed
	$(PY) -m bench.waits
	$(PY) -m bench.release
	$(PY) -m bench.marks $(CORPUS)
	$(PY) -m bench.room $(CORPUS)
	$(PY) -m bench.ride $(CORPUS)
	$(PY) -m bench.balance $(CORPUS)
	$(PY) -m bench.day
	$(PY) -m bench.timeline
	$(PY) -m bench.frames
	$(PY) -m bench.desk
	$(PY) -m bench.riding

# the newest versions that pyproject.toml allows, for development and CI
lock: .build/uv/bin/uv
	(sed -n 1p requirements.txt; .build/uv/bin/uv pip compile -q pyproject.toml --extra dev --universal --python-version 3.11 \
		--no-header --no-annotate) > .build/requirements.new
	mv .build/requirements.new requirements.txt

wheel: .build/ready
	.build/uv/bin/uv build -q --wheel -o .build/wheel

# --- set-up: each step leaves a stamp and runs again only when what it depends on has changed

.build/ready: .build/venv .build/web .build/warm
	@touch $@

.build/uv/bin/uv:
	@mkdir -p .build
	@python3 -m pip --version >/dev/null 2>&1 || ($(SUDO) apt-get update -qq && $(SUDO) apt-get install -y -qq --no-install-recommends python3-pip)
	python3 -m pip install -q --disable-pip-version-check --root-user-action=ignore --target .build/uv uv

.build/venv: pyproject.toml requirements.txt .build/uv/bin/uv
	.build/uv/bin/uv venv -q --allow-existing --python 3.11 .venv
	.build/uv/bin/uv pip install -q --compile-bytecode --python $(PY) -r requirements.txt
	.build/uv/bin/uv pip install -q --no-deps --python $(PY) -e .
	@touch $@

.build/node: frontend/package-lock.json
	cd frontend && npm ci --no-audit --no-fund --loglevel=error
	@touch $@

# what the program says of its interface may come from any of its files; the page is built again only where it says something else
.build/described: .build/venv $(PYTHON_FILES)
	.venv/bin/nivelus schema > .build/openapi.new
	@if cmp -s .build/openapi.new .build/openapi.json; then rm .build/openapi.new; else mv .build/openapi.new .build/openapi.json; fi
	@touch $@

.build/openapi.json: .build/described ;

.build/web: .build/node .build/openapi.json $(FRONT_FILES)
	cd frontend && npm run -s types >/dev/null && npm run -s build -- --logLevel warn
	@touch $@

.build/warm: .build/venv $(PYTHON_FILES)
	.venv/bin/nivelus warm
	@touch $@

# what only tests need: a browser without a window, references to compare with, and recordings of people
TOOLS := chromium-headless-shell ffmpeg flac libebur128-1 pocketsphinx-testdata asterisk-core-sounds-en-g722 \
	asterisk-core-sounds-ru-g722
# (two installations of Debian's packages do not go side by side)
.build/tools: Makefile | .build/uv/bin/uv
	@mkdir -p .build
	$(call installed,$(TOOLS))
	@touch $@

# the bench measures in the browser that people have
.build/bench: Makefile
	@mkdir -p .build
	$(call installed,chromium)
	@touch $@

define installed
[ "$$(dpkg -s $(1) 2>/dev/null | grep -c '^Status: install ok installed')" = $(words $(1)) ] || \
	($(SUDO) apt-get update -qq && $(SUDO) apt-get install -y -qq --no-install-recommends $(1))
endef

clean:
	rm -rf .build .venv frontend/node_modules src/nivelus/web/static
