#!/usr/bin/env bash
# Makes the virtual environment from the lock file and sees to the system libraries the window needs.
# Run again, it does nothing but look whether something changed.
set -euo pipefail
cd "$(dirname "$0")/.."

say() { printf 'setup: %s\n' "$*" >&2; }

as_root=()
if [ "$(id -u)" != 0 ]; then
  if command -v sudo >/dev/null && { sudo -n true 2>/dev/null || [ -t 0 ]; }; then as_root=(sudo); else as_root=(false); fi
fi
install_packages() { # names of Debian packages; says what to do where it cannot install them
  if command -v apt-get >/dev/null && [ "${as_root[*]:-}" != false ]; then
    say "installing system packages: $*"
    { "${as_root[@]}" apt-get update -qq && "${as_root[@]}" env DEBIAN_FRONTEND=noninteractive apt-get install -y -qq --no-install-recommends "$@"; } >/dev/null 2>&1 && return 0
  fi
  say "please install these system packages, then run the same command again:"
  say "    sudo apt-get install $*"
  return 1
}

# The newest Python that the lock file has packages for; PYTHON names another one, VENV another place than .venv.
. tools/pythons.sh
python=
for candidate in ${PYTHON:-$supported python3}; do
  if python=$(find_python "$candidate"); then break; fi
done
if [ -z "$python" ]; then
  [ -z "${PYTHON:-}" ] || { say "$PYTHON is none of the supported Pythons ($supported)"; exit 1; }
  install_packages python3 python3-venv || exit 1
  python=$(find_python python3) || { say "Python 3.11 to 3.14 is needed; this machine has $(python3 -V)"; exit 1; }
fi

venv=${VENV:-.venv}
stamp=$venv/.made-from
wanted=$({ cat requirements.lock pyproject.toml; "$python" -V; } | sha256sum | cut -d' ' -f1)
if [ "$(cat "$stamp" 2>/dev/null || true)" != "$wanted" ]; then
  if ! "$python" -c 'import ensurepip, venv' 2>/dev/null; then
    version=$("$python" -c 'import sys; print("%d.%d" % sys.version_info[:2])')
    install_packages "python$version-venv" || exit 1
  fi
  packages=$(grep -cE '^[A-Za-z0-9_.-]+==' requirements.lock)
  say "making $venv with $("$python" -V) and installing $packages pinned packages: about 1 GB, a few minutes, only this first time"
  rm -rf "$venv"
  "$python" -m venv "$venv"
  "$venv/bin/python" -m pip install --progress-bar off --disable-pip-version-check --require-hashes -r requirements.lock |
    awk -v all="$packages" '
      /^(Collecting|Processing)/ { n++; sub(/.*\//, "", $2); printf "setup: %d of %d: %s\n", n, all, $2; fflush() }
      /^Installing collected/ { print "setup: all are here; unpacking them"; fflush() }' >&2
  "$venv/bin/python" -m pip install --quiet --disable-pip-version-check --no-build-isolation --no-deps -e .
  printf '%s' "$wanted" >"$stamp"
fi

# Compiled once, so that no start waits for it.
"$venv/bin/python" -m compileall -q src || true

# What Qt loads at run time, and which Debian package has it.
qt=$("$venv/bin/python" -c 'import importlib.util, pathlib; print(pathlib.Path(importlib.util.find_spec("PySide6").origin).parent / "Qt")')
missing=$(ldd "$qt"/lib/libQt6Gui.so.6 "$qt"/lib/libQt6Widgets.so.6 "$qt"/lib/libQt6XcbQpa.so.6 "$qt"/plugins/platforms/libqxcb.so "$qt"/plugins/platforms/libqoffscreen.so 2>/dev/null |
  awk '/not found/ && $1 !~ /^libQt6/ {print $1}' | sort -u)
if [ -n "$missing" ]; then
  packages=()
  for library in $missing; do
    case $library in
      libEGL.so.1) packages+=(libegl1) ;; libGL.so.1) packages+=(libgl1) ;; libGLX.so.0) packages+=(libglx0) ;; libOpenGL.so.0) packages+=(libopengl0) ;;
      libxkbcommon.so.0) packages+=(libxkbcommon0) ;; libxkbcommon-x11.so.0) packages+=(libxkbcommon-x11-0) ;;
      libdbus-1.so.3) packages+=(libdbus-1-3) ;; libfontconfig.so.1) packages+=(libfontconfig1) ;; libfreetype.so.6) packages+=(libfreetype6) ;;
      libglib-2.0.so.0 | libgthread-2.0.so.0) packages+=(libglib2.0-0) ;; libX11.so.6) packages+=(libx11-6) ;; libX11-xcb.so.1) packages+=(libx11-xcb1) ;;
      libxcb.so.1) packages+=(libxcb1) ;; libxcb-cursor.so.0) packages+=(libxcb-cursor0) ;; libxcb-icccm.so.4) packages+=(libxcb-icccm4) ;;
      libxcb-image.so.0) packages+=(libxcb-image0) ;; libxcb-keysyms.so.1) packages+=(libxcb-keysyms1) ;; libxcb-randr.so.0) packages+=(libxcb-randr0) ;;
      libxcb-render.so.0) packages+=(libxcb-render0) ;; libxcb-render-util.so.0) packages+=(libxcb-render-util0) ;; libxcb-shape.so.0) packages+=(libxcb-shape0) ;;
      libxcb-shm.so.0) packages+=(libxcb-shm0) ;; libxcb-sync.so.1) packages+=(libxcb-sync1) ;; libxcb-util.so.1) packages+=(libxcb-util1) ;;
      libxcb-xfixes.so.0) packages+=(libxcb-xfixes0) ;; libxcb-xinerama.so.0) packages+=(libxcb-xinerama0) ;; libxcb-xkb.so.1) packages+=(libxcb-xkb1) ;;
      libz.so.1) packages+=(zlib1g) ;; libstdc++.so.6) packages+=(libstdc++6) ;;
      *) say "a system library is missing that no package is known for: $library" ;;
    esac
  done
  if [ "${#packages[@]}" -gt 0 ]; then
    mapfile -t packages < <(printf '%s\n' "${packages[@]}" | sort -u)
    install_packages "${packages[@]}" || exit 1
  fi
fi

# What the PDF of a report is laid out with. Without it the window opens all the same, and reports are HTML.
lacking=()
for pair in libpango-1.0.so.0:libpango-1.0-0 libpangoft2-1.0.so.0:libpangoft2-1.0-0 libharfbuzz-subset.so.0:libharfbuzz-subset0; do
  "$venv/bin/python" -c 'import ctypes, sys; ctypes.CDLL(sys.argv[1])' "${pair%%:*}" 2>/dev/null || lacking+=("${pair##*:}")
done
if [ "${#lacking[@]}" -gt 0 ]; then
  install_packages "${lacking[@]}" || say "until then a report can be written as HTML, not as PDF"
fi
