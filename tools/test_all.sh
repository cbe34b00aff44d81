#!/usr/bin/env bash
# Runs style, types and tests under every supported Python on this machine, each in a virtual environment of its own.
set -uo pipefail
cd "$(dirname "$0")/.."
. tools/pythons.sh

told=() failed=0
for version in $supported; do
  if ! find_python "$version" >/dev/null; then told+=("$version: not on this machine"); continue; fi
  venv=.venv-$version
  if PYTHON=$version VENV=$venv tools/setup.sh && "$venv/bin/ruff" check src tests tools benchmarks &&
    "$venv/bin/ruff" format --check --quiet src tests tools benchmarks && "$venv/bin/mypy" && "$venv/bin/python" -m pytest "$@"; then
    told+=("$version: passed")
  else
    told+=("$version: FAILED") failed=1
  fi
done
printf 'Python %s\n' "${told[@]}"
exit "$failed"
