#!/bin/sh -eu
# Lets the keeper in with the key in KEEPER_KEY, which a clone has from its volume or /etc/zygos/first-boot.env.
: "${KEEPER_KEY:?no key was given: set it in first-boot.env}"
printf '%s\n' "$KEEPER_KEY" > /home/keeper/.ssh/authorized_keys
chown keeper:keeper /home/keeper/.ssh/authorized_keys
chmod 0600 /home/keeper/.ssh/authorized_keys
