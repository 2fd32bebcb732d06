# Sourced by bin/demo and bin/test: what both need before they can build.
# Installs Debian packages when it may, says what to do when it may not, and builds the console.

set -euo pipefail
cd "$(dirname "${BASH_SOURCE[0]}")/.."
export npm_config_loglevel=error

fail() {
  printf '\n%s: %s\n' "$0" "$1" >&2
  exit 1
}

# during WHAT WHY COMMAND...: runs a command whose output goes to a file, and shows a line that moves meanwhile.
# If the command fails, the end of its output is shown, and WHY.
during() {
  local what=$1 why=$2 log began=$SECONDS shown=0 pid status=0
  shift 2
  log=$(mktemp)
  "$@" >"$log" 2>&1 &
  pid=$!
  while kill -0 "$pid" 2>/dev/null; do
    local elapsed=$((SECONDS - began))
    if [ -t 1 ]; then
      printf '\r  %s, %d s ' "$what" "$elapsed"
    elif [ $((elapsed - shown)) -ge 15 ]; then
      printf '  %s, %d s\n' "$what" "$elapsed"
      shown=$elapsed
    fi
    sleep 0.5
  done
  wait "$pid" || status=$?
  if [ -t 1 ]; then printf '\r'; fi
  printf '  %s, done in %d s\n' "$what" "$((SECONDS - began))"
  [ "$status" = 0 ] || { tail -n 30 "$log" >&2; fail "$why (all of the output is in $log)"; }
  rm -f "$log"
}

# need PROGRAM PACKAGE...: installs the packages when the program is not there.
need() {
  local program=$1
  shift
  PATH="$PATH:/usr/sbin" command -v "$program" >/dev/null && return
  local as=()
  if [ "$(id -u)" != 0 ]; then
    sudo -n true 2>/dev/null || fail "$program is not installed, and installing needs root. Run: apt-get install $*"
    as=(sudo -n)
  fi
  command -v apt-get >/dev/null || fail "$program is not installed, and there is no apt-get. Install $* by hand."
  # Debian starts a server of its own after installing; ours is the only one wanted.
  local rule=/usr/sbin/policy-rc.d made=
  if [ ! -e $rule ]; then
    printf '#!/bin/sh\nexit 101\n' | "${as[@]}" tee $rule >/dev/null && "${as[@]}" chmod +x $rule && made=1
  fi
  install_packages() {
    "${as[@]}" apt-get update && "${as[@]}" env DEBIAN_FRONTEND=noninteractive apt-get install -y --no-install-recommends "$@"
  }
  during "installing $*" "apt-get could not install $*" install_packages "$@"
  [ -z "$made" ] || "${as[@]}" rm -f $rule
}

command -v cargo >/dev/null || fail "Rust is not installed: get it from https://rustup.rs"
command -v npm >/dev/null || fail "Node is not installed: version 20 or later builds the console"
command -v cc >/dev/null || need cc gcc libc6-dev

# room GIGABYTES: refuses before a build fills the disk.
room() {
  local free
  free=$(df -Pk . | awk 'NR==2 {print int($4 / 1048576)}')
  [ "$free" -ge "$1" ] || fail "only $free GB are free in $(pwd), and the build takes about $1 GB: free some space first"
}

# Installs what the console is built from, unless that is there.
console_packages() {
  [ console/node_modules/.package-lock.json -nt console/package-lock.json ] ||
    during "installing the console's packages" "the console's packages cannot be installed" npm ci --prefix console --no-audit --no-fund
}

# Builds the console unless its output is newer than everything it is made from.
console() {
  if [ -f console/dist/index.html ] &&
    [ -z "$(find console -path console/node_modules -prune -o -path console/dist -prune -o -type f -newer console/dist/index.html -print -quit)" ]; then
    return
  fi
  console_packages
  during "building the console" "the console does not build" npm run build --prefix console
}
