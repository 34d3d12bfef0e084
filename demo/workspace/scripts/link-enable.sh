#!/bin/sh
# Starts the link at boot; not now, an image build runs no services.
set -eu
[ "$ZYGOS_BUILDING" = 1 ]
printf 'null::respawn:/opt/link/bin/link\n' >> /etc/inittab
echo "the link starts at boot"
