#!/bin/sh
# Locks accounts and tightens permissions.
# needs: sed
set -eu
chmod 0700 /root
chmod 0600 /etc/shadow
for account in nobody; do
    sed -i "s|^$account:[^:]*|$account:!|" /etc/shadow
    echo "locked $account"
done
# What a careless install leaves behind; sealing takes it away.
echo "wget field-tools" > /root/.ash_history
echo "harden.sh finished" > /var/log/harden.log
