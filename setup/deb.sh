#!/usr/bin/env bash
# Builds a Debian package of bin/mullein, with dpkg-deb: setup/deb.sh [FOLDER] [VERSION] [COMPRESSION].
# The package is the same, byte for byte, for the same sources.
set -euo pipefail
cd "$(dirname "$0")/.."

folder=${1:-bin}
version=${2:-$(bin/mullein --version | awk '{print $3}')~$(git log -1 --format=%cd --date=format:%Y%m%d%H%M%S 2>/dev/null || echo 0)}
compression=${3:-xz}
arch=$(dpkg --print-architecture)
SOURCE_DATE_EPOCH=$(git log -1 --format=%ct 2>/dev/null || echo 0)
export SOURCE_DATE_EPOCH
umask 022
root=$(mktemp -d)
trap 'rm -rf "$root"' EXIT
chmod 755 "$root"

go run ./internal/cli/manual "$root/manual"
install -D -m 755 bin/mullein "$root/usr/bin/mullein"
install -D -m 644 setup/deb/mullein.service "$root/usr/lib/systemd/system/mullein.service"
install -D -m 640 setup/deb/mullein.yaml "$root/etc/mullein/mullein.yaml"
install -D -m 644 docs/settings.schema.json "$root/usr/share/mullein/settings.schema.json"
install -D -m 644 docs/feed.schema.json "$root/usr/share/mullein/feed.schema.json"
install -D -m 644 "$root/manual/completions/mullein" "$root/usr/share/bash-completion/completions/mullein"
install -D -m 644 "$root/manual/completions/_mullein" "$root/usr/share/zsh/vendor-completions/_mullein"
install -D -m 644 "$root/manual/completions/mullein.fish" "$root/usr/share/fish/vendor_completions.d/mullein.fish"
install -d "$root/usr/share/man/man1"
for page in "$root"/manual/man1/*.1; do
  gzip -9n <"$page" >"$root/usr/share/man/man1/$(basename "$page").gz"
done
rm -r "$root/manual"
install -d "$root/DEBIAN"
for script in postinst prerm postrm; do install -m 755 "setup/deb/$script" "$root/DEBIAN/$script"; done
echo /etc/mullein/mullein.yaml >"$root/DEBIAN/conffiles"
cat >"$root/DEBIAN/control" <<CONTROL
Package: mullein
Version: $version
Architecture: $arch
Maintainer: Mullein <mullein@sorrel.example>
Installed-Size: $(du -sk --exclude=DEBIAN "$root" | cut -f1)
Depends: adduser
Recommends: postgresql
Section: database
Priority: optional
Description: takes in the files that suppliers leave
 A service that notices files in landing folders, waits until each is whole,
 checks it, merges its rows by key into tables of PostgreSQL, and tells people
 what came, what did not, and what was wrong.
CONTROL
find "$root" -print0 | xargs -0 touch -hd "@$SOURCE_DATE_EPOCH"
mkdir -p "$folder"
dpkg-deb -Z"$compression" --root-owner-group --build "$root" "$folder/mullein_${version}_$arch.deb" >/dev/null
echo "$folder/mullein_${version}_$arch.deb"
