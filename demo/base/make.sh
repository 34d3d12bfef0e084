#!/bin/sh
# Makes the demo's base, field-os: a small root file system with a shell and the usual small
# utilities, from Debian's static busybox. The same busybox gives the same archive, bit for bit.
# usage: demo/base/make.sh FILE.tar.zst      (needs the packages busybox-static, zstd and tar)
set -eu
out=$1
busybox=$(command -v busybox)
root=$(mktemp -d)
trap 'rm -rf "$root"' EXIT
cd "$root"
umask 022
chmod 0755 .
mkdir -p bin sbin usr/bin usr/sbin usr/local/bin etc/init.d dev proc sys run tmp root home \
         var/log var/tmp var/lib var/cache usr/share/licenses/busybox
cp "$busybox" bin/busybox
chmod 0755 bin/busybox
bin/busybox --list-full | while read -r applet; do
    case $applet in
        bin/busybox) ;;
        bin/*) ln -s busybox "$applet" ;;
        linuxrc) ;;
        *) mkdir -p "$(dirname "$applet")"
           up=$(dirname "$applet" | sed 's|[^/]*|..|g')
           ln -s "$up/bin/busybox" "$applet" ;;
    esac
done
chmod 1777 tmp var/tmp
chmod 0700 root
cat > etc/passwd <<'F'
root:x:0:0:root:/root:/bin/sh
nobody:x:65534:65534:nobody:/nonexistent:/bin/false
F
cat > etc/group <<'F'
root:x:0:
tty:x:5:
nogroup:x:65534:
F
printf 'root:*:19000:0:99999:7:::\nnobody:*:19000:0:99999:7:::\n' > etc/shadow
chmod 0640 etc/shadow
cat > etc/os-release <<'F'
NAME="field-os"
ID=field-os
VERSION_ID=1.2.0
PRETTY_NAME="field-os 1.2.0"
F
echo field > etc/hostname
printf '127.0.0.1 localhost\n' > etc/hosts
: > etc/resolv.conf
printf '::sysinit:/etc/init.d/rcS\n::respawn:/bin/getty -L console 115200 vt100\n' > etc/inittab
printf '#!/bin/sh\nmount -t proc proc /proc\nhostname -F /etc/hostname\n' > etc/init.d/rcS
chmod 0755 etc/init.d/rcS
# As after a first boot: an identity and a log that must not reach any clone.
printf '5ea1b0a7d00d4f1e8c0ffee0f1e1d0s5\n' | tr s 5 > etc/machine-id
printf 'field-os: first boot finished\n' > var/log/boot.log
cp /usr/share/common-licenses/GPL-2 usr/share/licenses/busybox/GPL-2
tar --create --format=posix --sort=name --mtime=@1767225600 --owner=0 --group=0 --numeric-owner \
    --pax-option=exthdr.name=%d/PaxHeaders/%f,delete=atime,delete=ctime,delete=mtime . |
    zstd -q -19 --force -o "$out"
