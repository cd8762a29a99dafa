#!/bin/sh
# Makes sure that there is an nginx for the tests, as Debian packages it. It is unpacked below build/
# and not installed: an installed one would be started as a service of the machine.
set -eu

for place in nginx /usr/sbin/nginx build/front/usr/sbin/nginx; do
    command -v "$place" >/dev/null 2>&1 && exit 0
done

mkdir -p build/front
fetch() { (cd build/front && apt-get download -qq nginx >/dev/null 2>&1); }
if command -v apt-get >/dev/null 2>&1; then
    echo "unpacking nginx"
    if fetch || { [ "$(id -u)" = 0 ] && apt-get update -qq >/dev/null && fetch; }; then
        dpkg -x build/front/nginx_*.deb build/front
        exec build/front/usr/sbin/nginx -v
    fi
fi
echo "The tests need nginx. Get it with:" >&2
echo "  sudo apt-get update && sh tools/front_server.sh" >&2
exit 1
