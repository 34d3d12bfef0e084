#!/bin/sh
# Installs the link between a turbine and the control room.
set -eu
mkdir -p /opt/link/bin /var/lib/link
printf '%s\n' "$LINK_SITE" > /etc/ebbline/site
cat > /opt/link/bin/link <<'S'
#!/bin/sh
. /etc/ebbline/link.conf
echo "link of site $(cat /etc/ebbline/site) to $CONTROL_ROOM"
S
chmod 0755 /opt/link/bin/link
chown link:link /var/lib/link
echo "installed the link for site $LINK_SITE"
