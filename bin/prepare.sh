# Sourced by bin/demo and bin/test: what both need before they can build.
# Installs Debian packages when it may, says what to do when it may not, and builds the console.

set -euo pipefail
cd "$(dirname "${BASH_SOURCE[0]}")/.."

fail() {
  printf '\n%s: %s\n' "$0" "$1" >&2
  exit 1
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
  echo "  installing $*"
  local log
  log=$(mktemp)
  # Debian starts a server of its own after installing; ours is the only one wanted.
  local rule=/usr/sbin/policy-rc.d made=
  if [ ! -e $rule ]; then
    printf '#!/bin/sh\nexit 101\n' | "${as[@]}" tee $rule >/dev/null && "${as[@]}" chmod +x $rule && made=1
  fi
  { "${as[@]}" apt-get update && DEBIAN_FRONTEND=noninteractive "${as[@]}" apt-get install -y --no-install-recommends "$@"; } >"$log" 2>&1 ||
    { tail -n 5 "$log" >&2; fail "apt-get could not install $* (all of its output is in $log)"; }
  [ -z "$made" ] || "${as[@]}" rm -f $rule
  rm -f "$log"
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

# Builds the console unless its output is newer than everything it is made from.
console() {
  if [ -f console/dist/index.html ] &&
    [ -z "$(find console -path console/node_modules -prune -o -path console/dist -prune -o -type f -newer console/dist/index.html -print -quit)" ]; then
    return
  fi
  echo "  building the console"
  local log
  log=$(mktemp)
  (cd console && npm ci --no-audit --no-fund && npm run build) >"$log" 2>&1 ||
    { tail -n 30 "$log" >&2; fail "the console does not build (all of the output is in $log)"; }
  rm -f "$log"
}
