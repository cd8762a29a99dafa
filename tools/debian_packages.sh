#!/bin/sh
# Makes sure that the programs named are there, each from the Debian package of its own name, or of
# the one that is given with it: program=package.
# Installs them where it may; elsewhere says the command and fails.
set -eu

missing=""
for given in "$@"; do
    command -v "${given%%=*}" >/dev/null 2>&1 || missing="$missing ${given##*=}"
done
[ -n "$missing" ] || exit 0

if [ "$(id -u)" = 0 ] && command -v apt-get >/dev/null 2>&1; then
    echo "installing$missing"
    if (apt-get update -qq && DEBIAN_FRONTEND=noninteractive apt-get install -y -qq --no-install-recommends $missing) >/dev/null; then
        exit 0
    fi
fi
echo "The tests need$missing. Install with:" >&2
echo "  sudo apt-get update && sudo apt-get install -y$missing" >&2
exit 1
