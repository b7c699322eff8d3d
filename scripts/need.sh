#!/bin/sh
# Installs Debian packages for commands that are missing: need.sh COMMAND=PACKAGE ...
# As root directly, else with sudo; where neither is possible it says what to install.
set -eu
missing=""
for pair in "$@"; do
	command=${pair%%=*}
	if ! command -v "$command" >/dev/null 2>&1 && ! [ -x "/usr/sbin/$command" ]; then
		missing="$missing ${pair#*=}"
	fi
done
[ -n "$missing" ] || exit 0
echo "installing:$missing" >&2
as=""
if [ "$(id -u)" != 0 ]; then
	if ! command -v sudo >/dev/null 2>&1; then
		echo "These packages are missing and there is no sudo to install them:$missing" >&2
		echo "Ask an administrator for: apt-get install$missing" >&2
		exit 1
	fi
	as=sudo
fi
if ! command -v apt-get >/dev/null 2>&1; then
	echo "These packages are missing, and this is no Debian to install them on:$missing" >&2
	exit 1
fi
export DEBIAN_FRONTEND=noninteractive
$as apt-get update -q >&2
# shellcheck disable=SC2086
$as apt-get install -y -q --no-install-recommends $missing >&2
