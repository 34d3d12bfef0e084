#!/bin/sh
# Makes a Debian root archive with debootstrap and writes its checksum into zygos.toml.
# Needs root, the packages debootstrap and zstd, and a network that reaches Debian's packages.
# usage: make-base.sh [WORKSPACE]      (default: the folder of this script)
set -eu
suite=bookworm
here=$(cd "${1:-$(dirname "$0")}" && pwd)
out=$here/bases/debian-$suite.tar.zst
root=$(mktemp -d)
trap 'rm -rf "$root"' EXIT
chmod 0755 "$root"
debootstrap --variant=minbase "$suite" "$root" > "$root.log" 2>&1 || { tail -20 "$root.log"; exit 1; }
rm -f "$root.log" "$root"/var/cache/apt/archives/*.deb
mkdir -p "$here/bases"
tar --create --directory "$root" --format=posix --sort=name --numeric-owner --xattrs --xattrs-include='*' \
    --pax-option=exthdr.name=%d/PaxHeaders/%f,delete=atime,delete=ctime . | zstd -q -T0 --force -o "$out"
sum=$(sha256sum "$out" | cut -d' ' -f1)
release=$(cat "$root/etc/debian_version")
sed -i "s/^sha256 .*/sha256  = \"$sum\"/; s/^release .*/release = \"$release\"/" "$here/zygos.toml"
echo "made $out, Debian $release, sha256 $sum"
