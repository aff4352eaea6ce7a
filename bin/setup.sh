# Set-up shared by demo, test and bench: sourced, not run. Every step is skipped when what it makes is there already.
set -euo pipefail
root=$(cd "$(dirname "${BASH_SOURCE[0]}")/.." && pwd)
cd "$root"
export PYTHONDONTWRITEBYTECODE=

say() { printf '%s\n' "$*" >&2; }

# step NAME COMMAND...: say what is done and how long it took; show output only when it fails
step() {
  local name=$1 begun=$SECONDS log
  shift
  log=$(mktemp)
  if "$@" >"$log" 2>&1; then
    say "  $name ($((SECONDS - begun)) s)"
  else
    cat "$log" >&2
    say "failed: $name"
    rm -f "$log"
    exit 1
  fi
  rm -f "$log"
}

install_packages() {
  apt-get update -qq && DEBIAN_FRONTEND=noninteractive apt-get install -y -qq --no-install-recommends "$@"
}

# need_packages NAME...: Debian packages
need_packages() {
  local missing=() name
  for name in "$@"; do
    dpkg-query -W -f '${Status}' "$name" 2>/dev/null | grep -q 'ok installed' || missing+=("$name")
  done
  if [ ${#missing[@]} -gt 0 ]; then
    if [ "$(id -u)" != 0 ]; then
      say "these Debian packages are missing, and only root can install them: ${missing[*]}"
      exit 1
    fi
    step "Debian packages: ${missing[*]}" install_packages "${missing[@]}"
  fi
}

# alone COMMAND...: while no other set-up is at work in this folder; two at once would break one environment
alone() {
  exec 9>>.setup.lock
  flock -n 9 || { say "  waiting for another set-up in this folder"; flock 9; }
  "$@"
  exec 9>&-
}

# stamp NAME FILES...: true when the files are as they were when `mark NAME FILES...` was called
digest() { cat "$@" | sha256sum | cut -d' ' -f1; }

make_environment() {
  # afresh: what is no longer pinned must not stay
  python3 -m venv --clear .venv
  local pip=(.venv/bin/python -m pip install --quiet --disable-pip-version-check)
  # nothing is taken that is not, byte for byte, what was pinned
  "${pip[@]}" --require-hashes -r "requirements/$1.txt"
  # the tests take the extra `neural` too; on a machine with a graphics card PyTorch wants more than is pinned here
  if [ "$1" = test ]; then "${pip[@]}" --require-hashes --no-deps -r requirements/neural.txt; fi
  "${pip[@]}" --no-deps --no-build-isolation -e .
}

# need_python WHAT: the environment with the package itself and what one of requirements/ names: run or test
need_python() { alone python_is_there "$@"; }
python_is_there() {
  local what=${1:-run} now stamp
  python3 -c 'import sys; sys.exit(sys.version_info < (3, 11))' || { say "Python 3.11 or newer is needed"; exit 1; }
  if [ ! -x .venv/bin/python ] && ! python3 -c 'import ensurepip' 2>/dev/null; then
    need_packages python3-venv
  fi
  need_packages libgomp1 # what LightGBM's threads are made by
  now=$(digest pyproject.toml requirements/*.txt)
  stamp=.venv/.installed-$what
  # whoever has what the tests need has all
  if [ "$(cat "$stamp" 2>/dev/null)" != "$now" ] && [ "$(cat .venv/.installed-test 2>/dev/null)" != "$now" ]; then
    step "Python environment" make_environment "$what"
    echo "$now" >"$stamp"
  fi
}

# need_kernels: everything numerical compiled once, so that nobody waits for it later
need_kernels() { alone kernels_are_there; }
kernels_are_there() {
  local now
  now=$(digest src/gleaner/core/kernels/*.py)
  if [ "$(cat .venv/.warmed 2>/dev/null)" != "$now" ]; then
    step "kernels" .venv/bin/gleaner warm
    echo "$now" >.venv/.warmed
  fi
}

console_sources() { find console -path console/node_modules -prune -o -type f ! -name openapi.json -print | LC_ALL=C sort; }

install_node_modules() { (cd console && npm ci --no-audit --no-fund); }
build_console() { (cd console && npm run build); }

# need_console: node_modules and the built files the service serves
need_console() { alone console_is_there; }
console_is_there() {
  local now
  command -v node >/dev/null && command -v npm >/dev/null || { say "Node 20 or newer with npm is needed"; exit 1; }
  now=$(digest console/package-lock.json)
  if [ "$(cat console/node_modules/.installed 2>/dev/null)" != "$now" ]; then
    step "console packages" install_node_modules
    echo "$now" >console/node_modules/.installed
  fi
  now=$(console_sources | xargs -d '\n' cat | sha256sum | cut -d' ' -f1)
  if [ "$(cat src/gleaner/service/console/.built 2>/dev/null)" != "$now" ]; then
    step "console build" build_console
    echo "$now" >src/gleaner/service/console/.built
  fi
}
