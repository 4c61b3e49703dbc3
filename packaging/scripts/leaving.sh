#!/bin/sh
# Before the files go, but not where others take their place: the timer stops.
set -e
case "$1" in
remove | 0)
	if [ -d /run/systemd/system ]; then
		systemctl disable --now tarnwold-nightly.timer >/dev/null 2>&1 || true
	fi
	;;
esac
