#!/bin/sh
# After the package is there: the user that the unit runs as, and its folder. Nothing is started, and nothing that runs is restarted.
set -e
if ! getent passwd aditus >/dev/null; then
  useradd --system --home-dir /var/lib/aditus --shell /usr/sbin/nologin aditus
fi
install -d -o aditus -g aditus -m 0700 /var/lib/aditus
if [ -d /run/systemd/system ]; then
  systemctl daemon-reload || true
fi
