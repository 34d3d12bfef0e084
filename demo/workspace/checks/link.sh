#!/bin/sh
# The link starts at boot.
set -eu
grep -q respawn:/opt/link/bin/link /etc/inittab
