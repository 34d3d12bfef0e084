#!/bin/sh
# Writes a greeting that every login shows.
set -eu
echo "$GREETING from an image that Zygos built" > /etc/motd
cat /etc/motd
