# What is compiled is kept, whatever the machine says.
COMPILED = PYTHONDONTWRITEBYTECODE=

.PHONY: demo test dist test-dist test-lowest test-all test-slow check screenshots bench clean

demo: ## open the window on the demonstration (headless, and saying so, without a display)
	@tools/setup.sh
	@.venv/bin/mivrat demo

test: ## style, types and tests
	@tools/setup.sh
	@.venv/bin/ruff check src tests tools benchmarks
	@.venv/bin/ruff format --check --quiet src tests tools benchmarks
	@$(COMPILED) .venv/bin/python -m pytest --collect-only >/dev/null 2>&1 & .venv/bin/mypy && wait # the workers below then find the tests compiled
	@$(COMPILED) OPENBLAS_NUM_THREADS=1 .venv/bin/python -m pytest -n auto --dist worksteal # workers share the processors, and what is left at the end

dist: ## wheel and source archive in dist/, the same bytes each time
	@tools/setup.sh
	@rm -rf dist
	@.venv/bin/python -m tools.write_share
	@.venv/bin/python -m hatchling build -d dist
	@ls -l dist

test-dist: dist ## install the wheel in a fresh environment, and run the demonstration from it
	@tools/test_dist.sh

test-lowest: ## the tests with the lowest versions of all dependencies that are allowed
	@tools/test_lowest.sh

test-all: ## the same under every supported Python at hand
	@tools/test_all.sh

test-slow: ## what takes minutes: every page at every width, floods of broken inputs
	@tools/setup.sh
	@.venv/bin/python -m pytest -m slow

screenshots: ## draw docs/screenshots anew from the demonstration
	@tools/setup.sh
	@.venv/bin/python tools/take_screenshots.py

bench: ## the ratios that the documentation quotes
	@tools/setup.sh
	@.venv/bin/python -m benchmarks.evaluate
	@.venv/bin/python -m benchmarks.memory
	@.venv/bin/python -m benchmarks.opening
	@.venv/bin/python -m benchmarks.starting
	@.venv/bin/python -m benchmarks.kills
	@.venv/bin/python -m benchmarks.near_copies
	@.venv/bin/python -m benchmarks.blob_cache
	@.venv/bin/python -m benchmarks.probes
	@.venv/bin/python -m benchmarks.figures
	@.venv/bin/python -m benchmarks.agreement
	@.venv/bin/python -m benchmarks.agreement_of_two
	@.venv/bin/python -m benchmarks.comparing 100
	@.venv/bin/python -m benchmarks.coverage
	@.venv/bin/python -m benchmarks.gone
	@.venv/bin/python -m benchmarks.selection
	@.venv/bin/python -m benchmarks.holding
	@.venv/bin/python -m benchmarks.scrolling
	@.venv/bin/python -m benchmarks.review
	@.venv/bin/python -m benchmarks.patterns
	@.venv/bin/python -m benchmarks.heatmap
	@.venv/bin/python -m benchmarks.explaining
	@.venv/bin/python -m benchmarks.concluding
	@.venv/bin/python -m benchmarks.tables
	@.venv/bin/python -m benchmarks.services
	@.venv/bin/python -m benchmarks.cluster
	@.venv/bin/python -m benchmarks.strain
	@.venv/bin/python -m benchmarks.archives
	@.venv/bin/python -m benchmarks.cluster_kills
	@.venv/bin/python -m benchmarks.plain_script
	@.venv/bin/python -m benchmarks.long_use

clean:
	rm -rf .venv build .pytest_cache .mypy_cache .ruff_cache .hypothesis
