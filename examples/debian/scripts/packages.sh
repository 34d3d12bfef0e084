#!/bin/bash
# Installs packages with apt; services are not started in an image build.
set -euo pipefail
export DEBIAN_FRONTEND=noninteractive
printf '#!/bin/sh\nexit 101\n' > /usr/sbin/policy-rc.d
chmod 0755 /usr/sbin/policy-rc.d
apt-get update
# shellcheck disable=SC2086 # a list of words
apt-get install -y --no-install-recommends $PACKAGES
rm /usr/sbin/policy-rc.d

# What holds times or is drawn anew, so that the same packages give the same bits.
apt-get clean
rm -f /var/cache/apt/*.bin /var/cache/ldconfig/aux-cache /etc/ssh/ssh_host_*_key*
find /var/log -type f -exec truncate -s 0 {} +
