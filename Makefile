# `make demo` and `make test` work from nothing on Debian 12; see README.md.
.PHONY: demo test check serve bench shots lint setup setup-test stop clean
PY = .venv/bin

demo: setup
	@$(PY)/vornet demo

serve: setup
	@$(PY)/vornet serve

test: setup-test lint
	@$(PY)/pytest -n 2 --dist loadfile --no-loadscope-reorder

# in under a minute: what one runs before every commit
check: setup-test lint
	@$(PY)/pytest -n 2 -m "not slow and not browser" tests/core tests/io tests/test_house.py src/vornet/core src/vornet/io

lint: setup-test
	@$(PY)/ruff check src tests scripts bench
	@$(PY)/ruff format --check -q src tests scripts bench
	@$(PY)/mypy
	@$(PY)/lint-imports

bench: setup-test
	@$(PY)/python bench/bench.py

shots: setup-test
	@$(PY)/vornet demo --no-serve --until 2026-01-15
	@$(PY)/python scripts/shots.py

stop:
	@$(PY)/vornet stop

setup:
	@sh scripts/setup.sh

setup-test:
	@sh scripts/setup.sh test
