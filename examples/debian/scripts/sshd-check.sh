#!/bin/bash
# Lets sshd check its own settings, with a host key of this sandbox alone: each clone draws its own.
set -euo pipefail
mkdir -p /run/sshd
ssh-keygen -q -t ed25519 -N '' -f /tmp/key
/usr/sbin/sshd -h /tmp/key -T | grep -Ei '^(permitrootlogin|passwordauthentication|x11forwarding) '
