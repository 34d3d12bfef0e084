#!/bin/sh -eu
# Stands in for the vault of Ebbline: prints a made-up value for a name.
[ "$1" = read ]
printf 'ebbline-%s-%s\n' "$2" "$(printf '%s' "$2" | cksum | cut -d' ' -f1)"
