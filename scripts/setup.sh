#!/bin/sh
# Makes this clone ready: system packages (when root or sudo can), the Python environment from
# requirements.lock, the front end from package-lock.json. With "test" also the browser for tests.
# Done steps are stamped under .local/stamps and skipped next time.
set -eu
cd "$(dirname "$0")/.."
for_test=${1:-}
stamps=.local/stamps
mkdir -p "$stamps"

# ---- system packages -------------------------------------------------------------------------------
missing=""
python=""
for candidate in python3.13 python3.12 python3.11 python3; do
  if command -v "$candidate" >/dev/null 2>&1 &&
     "$candidate" -c 'import sys, venv, ensurepip; sys.exit(sys.version_info < (3, 11))' >/dev/null 2>&1; then
    python=$candidate
    break
  fi
done
[ -n "$python" ] || missing="$missing python3 python3-venv"
if [ -z "${DATABASE_URL:-}" ] && ! command -v initdb >/dev/null 2>&1 && ! ls /usr/lib/postgresql/*/bin/initdb >/dev/null 2>&1; then
  missing="$missing postgresql"
fi
for library in libpango-1.0 libpangoft2-1.0 libharfbuzz-subset; do # paper (PDF) is drawn with these
  if ! ls /usr/lib/*/"$library".so.0 /usr/lib/"$library".so.0 2>/dev/null | grep -q .; then
    missing="$missing $(echo "$library" | sed "s/subset$/subset0/; s/-1.0$/-1.0-0/")"
  fi
done
if [ "$for_test" = test ] && ! command -v chromium >/dev/null 2>&1; then
  missing="$missing chromium"
fi
if [ -n "$missing" ]; then
  if [ "$(id -u)" = 0 ]; then
    as_root=""
  elif command -v sudo >/dev/null 2>&1 && { sudo -n true 2>/dev/null || [ -t 0 ]; }; then
    as_root="sudo"
  else
    echo "Vornet needs Debian's packages:$missing. Install them as root (apt-get install$missing) and run this again." >&2
    exit 1
  fi
  echo "installing$missing …"
  log=.local/apt.log
  if ! { $as_root apt-get update && $as_root env DEBIAN_FRONTEND=noninteractive apt-get install -y --no-install-recommends $missing; } >"$log" 2>&1; then
    tail -n 5 "$log" >&2
    echo "Installing$missing did not work (all of it in $log)." >&2
    exit 1
  fi
  python=${python:-python3}
fi

# ---- Python ----------------------------------------------------------------------------------------
sum() { cat "$@" | sha256sum | cut -d' ' -f1; }
want=$(sum requirements.lock scripts/uv.lock pyproject.toml)-$("$python" -c 'import sys; print(sys.version_info[:2])')
if [ ! -x .venv/bin/vornet ] || [ "$(cat "$stamps/python" 2>/dev/null)" != "$want" ]; then
  echo "installing Python packages …"
  [ -x .venv/bin/python ] || "$python" -m venv .venv
  .venv/bin/python -m pip install -q --disable-pip-version-check --require-hashes -r scripts/uv.lock
  # the system's certificates first (a proxy's own authority is there), the built-in ones where there are none
  .venv/bin/uv pip sync -q --system-certs --require-hashes --python .venv/bin/python requirements.lock scripts/uv.lock 2>.local/uv.log ||
    .venv/bin/uv pip sync -q --require-hashes --python .venv/bin/python requirements.lock scripts/uv.lock
  .venv/bin/uv pip install -q --system-certs --python .venv/bin/python --no-deps -e . 2>>.local/uv.log ||
    .venv/bin/uv pip install -q --python .venv/bin/python --no-deps -e .
  rm -rf src/vornet/core/units_built && mkdir src/vornet/core/units_built # definitions of units, read once
  .venv/bin/python -c "from vornet.core import conversion; conversion.convert(1, 'us_qt', 'liter')"
  echo "$want" > "$stamps/python"
fi

# ---- front end -------------------------------------------------------------------------------------
want=$(sum package-lock.json scripts/assets.sh src/vornet/web/static/app.css src/vornet/web/static/*.js $(find src/vornet/web/templates docs -name '*.html' | sort) mkdocs.yml $(find docs -name '*.md' | sort))
if [ ! -f src/vornet/web/static/dist/app.css ] || [ "$(cat "$stamps/assets" 2>/dev/null)" != "$want" ]; then
  if ! command -v npm >/dev/null 2>&1; then
    [ -x .local/node/bin/npm ] || {
      echo "installing node …"
      "$python" -m venv .local/node
      .local/node/bin/python -m pip install -q --disable-pip-version-check --require-hashes -r scripts/node.lock
    }
    PATH="$PWD/.local/node/bin:$PATH"
    export PATH
  fi
  if [ ! -d node_modules/htmx.org ] || [ "$(cat "$stamps/npm" 2>/dev/null)" != "$(sum package-lock.json)" ]; then
    echo "installing front-end packages …"
    # not `npm ci`: it refuses a lock without the packages that only other systems can install
    npm install --no-save --no-audit --no-fund --ignore-scripts >.local/npm.log 2>&1 || { tail -n 5 .local/npm.log >&2; exit 1; }
    sum package-lock.json > "$stamps/npm"
  fi
  sh scripts/assets.sh >.local/assets.log 2>&1 || { cat .local/assets.log >&2; exit 1; }
  rm -rf src/vornet/web/templates_built && mkdir src/vornet/web/templates_built # templates, compiled once
  .venv/bin/python -c "from vornet.web import pages; pages.compile_templates()"
  echo "$want" > "$stamps/assets"
fi
