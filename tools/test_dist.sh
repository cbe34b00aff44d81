#!/usr/bin/env bash
# Installs the wheel in dist/ in a fresh virtual environment, away from the source, and does with it what a newcomer does.
set -euo pipefail
cd "$(dirname "$0")/.."
wheel=$(ls "$PWD"/dist/*.whl)
work=$(mktemp -d)
trap 'rm -rf "$work"' EXIT

most=$((15 * 1024 * 1024)) size=$(stat -c %s "$wheel")
[ "$size" -le "$most" ] || { echo "the wheel has $size bytes, at most $most are allowed"; exit 1; }
. tools/pythons.sh
python=
for candidate in ${PYTHON:-$supported}; do
  if python=$(find_python "$candidate"); then break; fi
done
"$python" -m venv "$work/env"
"$work/env/bin/python" -m pip install --quiet --disable-pip-version-check "$wheel"

cd "$work"
export XDG_DATA_HOME=$work/share XDG_CONFIG_HOME=$work/config XDG_STATE_HOME=$work/state XDG_CACHE_HOME=$work/cache
unset DISPLAY WAYLAND_DISPLAY QT_QPA_PLATFORM PYTHONPATH
env/bin/mivrat --version
env/bin/mivrat demo
[ -s mivrat-demonstration/*late-summer-field*grain-net-1*/metrics.json ]
env/bin/mivrat desktop install
grep -q "^Exec=$work/env/bin/mivrat open %f" share/applications/mivrat.desktop
[ -s env/share/man/man1/mivrat.1 ]
env/bin/mivrat desktop remove
[ -z "$(find share -type f -name 'mivrat*')" ]
env/bin/python -c "import mivrat; print(mivrat.from_scores([0, 1, 1], [[2, 1], [0, 3], [1, 0]]).top1)"
echo "the wheel of $size bytes works by itself"
