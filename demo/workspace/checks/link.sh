#!/bin/sh
# The link starts at boot, and the image says what it is.
set -eu
grep -q respawn:/opt/link/bin/link /etc/inittab
grep -q "^$ZYGOS_IMAGE " /etc/ebbline/version
