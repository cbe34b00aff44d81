#!/usr/bin/env bash
# Makes an environment of its own with a server of the Open Inference Protocol that is not ours, for the tests to ask.
# Where it cannot be installed it says so and leaves nothing: the tests that want it are skipped, with the reason.
set -euo pipefail
cd "$(dirname "$0")/.."
. tools/pythons.sh
place=.venv-real-server
wanted=$(sha256sum tools/real_server/requirements.lock | cut -d' ' -f1)
[ "$(cat "$place/.made-from" 2>/dev/null || true)" != "$wanted" ] || exit 0
python=
for candidate in 3.12 3.11; do # the server knows no later one
  if python=$(find_python "$candidate"); then break; fi
done
[ -n "$python" ] || { echo "real server: it takes Python 3.11 or 3.12, and there is none here" >&2; exit 0; }
rm -rf "$place"
if "$python" -m venv "$place" &&
  "$place/bin/python" -m pip install --quiet --disable-pip-version-check --require-hashes -r tools/real_server/requirements.lock; then
  printf '%s' "$wanted" >"$place/.made-from"
else
  echo "real server: it could not be installed" >&2
  rm -rf "$place"
fi
