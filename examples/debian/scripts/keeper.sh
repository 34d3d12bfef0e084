#!/bin/bash
# Adds the keeper, who may use sudo and logs in with a key only.
set -euo pipefail
useradd --create-home --shell /bin/bash --groups sudo keeper
passwd --lock keeper
install -d -m 0700 -o keeper -g keeper /home/keeper/.ssh
