#!/bin/sh
# After the files are gone. The estate stays, unless it is purged.
set -e
if [ "$1" = purge ]; then
	rm -rf /var/lib/tarnwold
fi
if [ -d /run/systemd/system ]; then
	systemctl daemon-reload || true
fi
