#!/bin/sh
# Installs the database servers that the tests start for themselves, their clients and an editor, where they
# are missing and this user may. Servers that the packages would start are not started.
set -eu

missing=""
ls /usr/lib/postgresql/*/bin/postgres >/dev/null 2>&1 || missing="$missing postgresql"
command -v pgbouncer >/dev/null 2>&1 || [ -x /usr/sbin/pgbouncer ] || missing="$missing pgbouncer"
command -v mariadbd >/dev/null 2>&1 || [ -x /usr/sbin/mariadbd ] || missing="$missing mariadb-server"
command -v sqlite3 >/dev/null 2>&1 || missing="$missing sqlite3"
command -v nvim >/dev/null 2>&1 || missing="$missing neovim"
[ -n "$missing" ] || exit 0

line="apt-get install -y --no-install-recommends$missing"
if [ "$(id -u)" != 0 ] || ! command -v apt-get >/dev/null 2>&1; then
	echo "the tests need what is not installed; as root: $line" >&2
	exit 1
fi
if [ ! -e /etc/postgresql-common/createcluster.conf ]; then
	mkdir -p /etc/postgresql-common
	echo "create_main_cluster = false" >/etc/postgresql-common/createcluster.conf
fi
# No package starts a service meanwhile.
policy=/usr/sbin/policy-rc.d
if [ ! -e $policy ]; then
	printf '#!/bin/sh\nexit 101\n' >$policy
	chmod +x $policy
	trap 'rm -f $policy' EXIT
fi
export DEBIAN_FRONTEND=noninteractive
apt-get update -q
$line
