#!/bin/sh
# Installs Mostra from this directory on a system with systemd and PostgreSQL, below /usr/local; as root.
#
#   ./install.sh            install, or put this version in the place of another one
#   ./install.sh --remove   take it away again; the configuration, the records and /var/lib/mostra stay
set -eu
cd "$(dirname "$0")"
prefix=/usr/local
say() { printf '%s\n' "$*"; }
die() { printf 'install.sh: %s\n' "$*" >&2; exit 1; }

[ "$(id -u)" = 0 ] || die "this needs root: sudo ./install.sh"
[ -d /run/systemd/system ] || die "this system does not run systemd. Start bin/mostrad by what runs here; bin/mostrad --help says how."
for program in systemctl systemd-sysusers systemd-tmpfiles setpriv psql pg_dump pg_restore; do
  command -v $program >/dev/null || die "$program is not there. Install PostgreSQL, its client programs and util-linux first."
done

if [ "${1:-}" = --remove ]; then
  systemctl disable --now mostrad.service 2>/dev/null || true
  rm -f /etc/systemd/system/mostrad.service /etc/sysusers.d/mostra.conf /etc/tmpfiles.d/mostra.conf
  find share bin libexec -type f | while read -r file; do rm -f "$prefix/$file"; done
  rmdir $prefix/libexec/mostra $prefix/share/mostra/personas $prefix/share/mostra 2>/dev/null || true
  systemctl daemon-reload
  say "Mostra is removed. The database mostra, /etc/mostra and /var/lib/mostra stay."
  exit 0
fi
[ $# -eq 0 ] || die "usage: ./install.sh [--remove]"
getent passwd postgres >/dev/null || die "there is no user postgres: install PostgreSQL's server, or set MOSTRA_DATABASE_URL in /etc/default/mostra and make that user."

if [ -x $prefix/bin/mostrad ] && [ -r /etc/mostra/mostra.toml ]; then
  say "Another version is here; it saves the records first."
  (cd / && setpriv --reuid=mostra --regid=mostra --init-groups -- $prefix/bin/mostrad --config /etc/mostra/mostra.toml save) ||
    say "The records could not be saved."
  systemctl stop mostrad.service || true
fi
find share bin libexec -type f | while read -r file; do
  mode=644
  case $file in bin/* | libexec/*) mode=755 ;; esac
  install -D -m $mode "$file" "$prefix/$file"
done
install -D -m 644 mostra.sysusers /etc/sysusers.d/mostra.conf
install -D -m 644 mostra.tmpfiles /etc/tmpfiles.d/mostra.conf
install -D -m 644 mostrad.service /etc/systemd/system/mostrad.service
[ -e /etc/mostra/mostra.toml ] || install -D -m 644 mostra.toml /etc/mostra/mostra.toml
systemd-sysusers /etc/sysusers.d/mostra.conf
systemd-tmpfiles --create /etc/tmpfiles.d/mostra.conf
systemctl daemon-reload
systemctl enable --now mostrad.service || die "the service does not start: journalctl -u mostrad"
say "Mostra is installed. Its console is at http://127.0.0.1:7641/ on this machine; whoever opens it first
chooses the password, there or by: mostra login
Folders that the service is to read are opened to the group mostra-media."
