#!/bin/sh
# Installs what a MariaDB cluster needs, for make test-galera, and prints where its scripts are.
# They come out of the package of the whole server, which would also start one for the machine.
set -eu
cd "$(dirname "$0")/.."
scripts/need.sh rsync=rsync ss=iproute2
if ! [ -e /usr/lib/galera/libgalera_smm.so ]; then
	scripts/need.sh galera-provider=galera-4
fi
dir=bin/galera
if ! [ -x $dir/usr/bin/wsrep_sst_rsync ]; then
	mkdir -p $dir
	(cd $dir && apt-get download -q mariadb-server >&2 && dpkg -x mariadb-server_*.deb . && rm mariadb-server_*.deb)
	# Where it runs as root, the transfer's own server would write as nobody.
	sed -i 's/^use chroot = no$/&\nuid = '"$(id -u)"'\ngid = '"$(id -g)"'/' $dir/usr/bin/wsrep_sst_rsync
fi
echo "$PWD/$dir/usr/bin"
