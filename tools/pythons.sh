# Which Pythons the project supports, the newest first, and where they are found. To be sourced.
supported="3.14 3.13 3.12 3.11"

# The path of a Python given as a version (3.12) or a command; fails where there is none, or none that is supported.
# Version managers put their Pythons beside the path, so those are looked for too.
find_python() {
  local found
  case $1 in [0-9]*) set -- "python$1" "${PYENV_ROOT:-$HOME/.pyenv}"/versions/"$1".*/bin/python "/opt/python$1/bin/python$1" ;; esac
  for found in "$@"; do
    found=$(command -v "$found" 2>/dev/null) || continue
    if "$found" -c "import sys; sys.exit('%d.%d' % sys.version_info[:2] not in '$supported'.split())" 2>/dev/null; then
      printf '%s' "$found"
      return 0
    fi
  done
  return 1
}
