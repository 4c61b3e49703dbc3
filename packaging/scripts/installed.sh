#!/bin/sh
# After the files are there: the user, and the folder of the estate.
set -e
if command -v systemd-sysusers >/dev/null 2>&1; then
	systemd-sysusers /usr/lib/sysusers.d/tarnwold.conf
elif ! getent passwd tarnwold >/dev/null; then
	useradd --system --user-group --home-dir /var/lib/tarnwold --shell /usr/sbin/nologin tarnwold
fi
mkdir -p /var/lib/tarnwold
chown tarnwold:tarnwold /var/lib/tarnwold
chmod 0700 /var/lib/tarnwold
if [ -d /run/systemd/system ]; then
	systemctl daemon-reload || true
fi
