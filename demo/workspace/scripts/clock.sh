#!/bin/sh
# Sets the clock's time zone.
set -eu
echo "$ZONE" > /etc/TZ
mkdir -p /etc/ebbline
echo "clock set to $ZONE"
