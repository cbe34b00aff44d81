#!/usr/bin/env bash
# Runs the tests with the lowest versions of all dependencies that pyproject.toml allows, under the oldest supported Python.
set -euo pipefail
cd "$(dirname "$0")/.."
. tools/pythons.sh
python=$(find_python "${PYTHON:-3.11}") || { echo "Python 3.11 is needed"; exit 1; }
venv=.venv-lowest
"$python" -m venv --clear "$venv"
"$venv/bin/python" tools/lowest.py >"$venv/lowest.txt"
"$venv/bin/python" -m pip install --quiet --disable-pip-version-check -r "$venv/lowest.txt" pytest pytest-qt pytest-xdist hypothesis hatchling editables
"$venv/bin/python" -m pip install --quiet --disable-pip-version-check --no-build-isolation --no-deps -e .
OPENBLAS_NUM_THREADS=1 "$venv/bin/python" -m pytest -n auto --dist worksteal "$@"
