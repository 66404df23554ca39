#!/usr/bin/env bash
# Installs those of Debian's packages that are missing: postgresql, chromium, and the servers that tests and the demo need.
set -euo pipefail

missing=()
for package in "$@"; do
  case $package in
    postgresql) compgen -G '/usr/lib/postgresql/*/bin/postgres' >/dev/null || missing+=(postgresql) ;;
    chromium) [ -x /usr/bin/chromium ] || missing+=(chromium) ;;
    openssh-server) [ -x /usr/sbin/sshd ] || missing+=(openssh-server) ;;
    proftpd) { [ -x /usr/sbin/proftpd ] && [ -e /usr/lib/proftpd/mod_tls.so ]; } || missing+=(proftpd-core proftpd-mod-crypto) ;;
    mariadb) { [ -x /usr/sbin/mariadbd ] && [ -x /usr/bin/mariadb-install-db ]; } || missing+=(mariadb-server-core mariadb-client-core) ;;
    rabbitmq) [ -x /usr/lib/rabbitmq/bin/rabbitmq-server ] || missing+=(rabbitmq-server) ;;
    *) echo "setup/install.sh knows postgresql, chromium, openssh-server, proftpd, mariadb and rabbitmq, not $package" >&2; exit 2 ;;
  esac
done
[ ${#missing[@]} -gt 0 ] || exit 0

as_root=()
if [ "$(id -u)" -ne 0 ]; then
  command -v sudo >/dev/null || { echo "missing: ${missing[*]}; install them, or sudo, as root" >&2; exit 1; }
  as_root=(sudo)
fi
echo "installing ${missing[*]} from Debian's packages"
# The packages would start servers of their own, which nobody here needs.
quiet=(env DEBIAN_FRONTEND=noninteractive RUNLEVEL=1)
"${as_root[@]}" mkdir -p /etc/postgresql-common
[ -e /etc/postgresql-common/createcluster.conf ] || echo 'create_main_cluster = false' | "${as_root[@]}" tee /etc/postgresql-common/createcluster.conf >/dev/null
"${as_root[@]}" apt-get update -qq
"${as_root[@]}" "${quiet[@]}" apt-get install -y -qq --no-install-recommends "${missing[@]}" >/dev/null
