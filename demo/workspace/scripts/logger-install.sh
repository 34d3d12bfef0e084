#!/bin/sh
# Installs the buoy logger and its ring buffer, a sparse file.
# needs: dd
set -eu
mkdir -p /var/lib/logger
dd if=/dev/zero of=/var/lib/logger/ring bs=1 count=1 seek=8388607 2>/dev/null
echo "ring buffer of $(wc -c < /var/lib/logger/ring) bytes"
