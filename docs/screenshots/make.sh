#!/bin/bash
# Makes the pictures in this folder anew from the demo workspace: each is an xterm of 1280x800
# in which the commands were typed, or a page in a browser. Needs Xvfb, xterm, imagemagick and
# chromium, which root gets installed.
set -euo pipefail
here=$(cd "$(dirname "$0")" && pwd)
program=$(cd "$here/../.." && pwd)/bin/zygos
if ! { command -v Xvfb && command -v xterm && command -v import && command -v chromium; } >/dev/null; then
    apt-get update -qq
    DEBIAN_FRONTEND=noninteractive apt-get install -y -qq --no-install-recommends xvfb xterm imagemagick chromium fonts-dejavu-core >/dev/null
fi
work=$(mktemp -d)
export DISPLAY=:93 PATH="$work/bin:$PATH"
mkdir "$work/bin" && ln -s "$program" "$work/bin/zygos"
Xvfb $DISPLAY -screen 0 1280x800x24 >/dev/null 2>&1 &
server=$! cloud=
trap 'kill $server $cloud; rm -rf "$work"' EXIT
sleep 1

# shot NAME FOLDER LINE…: types the lines in the folder and takes the picture when they are done, or $after seconds later.
shot() {
    local name=$1 folder=$2 line
    shift 2
    {
        echo "cd $folder"
        for line in "$@"; do
            printf 'printf "\\033[32m\\$\\033[0m \\033[1m%%s\\033[0m\\n" %q\n%s\n' "$line" "$line"
        done
        echo "touch $work/done; sleep 60"
    } > "$work/lines"
    rm -f "$work/done"
    xterm -geometry 157x45+0+0 -b 10 -fa 'DejaVu Sans Mono' -fs 10 -bg '#101418' -fg '#d8dde3' -e bash "$work/lines" &
    local window=$!
    for _ in $(seq $((${after:-300} * 10))); do [ -e "$work/done" ] && break; sleep 0.1; done
    sleep 0.6
    import -window root "$here/$name.png"
    kill $window
    wait $window 2>/dev/null || true
}

# page NAME FILE: takes the picture of a page.
page() {
    chromium --headless --no-sandbox --disable-gpu --hide-scrollbars --window-size=1280,800 --screenshot="$here/$1.png" "file://$2" >/dev/null 2>&1
}

shot demo "$work" "zygos demo ebbline 2>&1 | sed -n '/kelp-bay is a site/,\$p' | head -44"
rm -rf "$work/ebbline"
zygos demo "$work/ebbline" >/dev/null 2>&1
cd "$work/ebbline"
zygos build turbine-link --force --quiet >/dev/null 2>&1
zygos standin --pace 6MiB >/dev/null 2>&1 &
cloud=$!
sleep 1
sed -i '/^formats = \["raw"\]/a rate = "14MiB"' zygos.toml
after=4 shot underway "$work/ebbline" "zygos publish turbine-link --region kelp-bay --region north-sound --region far-skerry"
sed -i '/^rate/d' zygos.toml
kill $cloud
wait $cloud 2>/dev/null || true
zygos standin --quota 90MiB >/dev/null 2>&1 &
cloud=$!
sleep 1
zygos build tide-desk --force --quiet >/dev/null 2>&1
rm regions/north-sound/tide-desk/1.0.0/*.raw
echo damaged > "$(ls regions/far-skerry/buoy-logger/0.9.0/*.zst)"
shot publish "$work/ebbline" "zygos publish tide-desk turbine-link --tag stable" "zygos regions" "zygos verify" "zygos verify --repair"
kill $cloud
wait $cloud 2>/dev/null || true
zygos standin >/dev/null 2>&1 &
cloud=$!
sleep 1
zygos publish turbine-link tide-desk --quiet >/dev/null
shot manifest "$work/ebbline" "zygos manifest turbine-link@stable" "zygos manifest buoy-logger --json"
sed -i 's/echo "installed the link/echo "set up the link/' scripts/link-install.sh
echo 'INTERVAL=10' > files/link.d/interval.conf
shot preview "$work/ebbline" "zygos preview turbine-link"
sed -i 's/echo "installed $/sleep 1; &/' scripts/desk-install.sh
shot build "$work/ebbline" "zygos build turbine-link tide-desk"
sed -i 's/^chown link:link/chwon link:link/' scripts/link-install.sh
shot failure "$work/ebbline" "zygos build turbine-link"
failed=$(zygos builds --json | grep -o 'b-[0-9a-f-]*' | head -1)
shot enter "$work/ebbline" "printf 'ls -l /opt/link/bin /run/zygos/steps\\ncat /etc/ebbline/site\\necho \$LINK_SITE\\n' | zygos enter $failed" "printf 'sh -e /run/zygos/steps/01\\n' | zygos enter $failed"
sed -i 's/^chwon/chown/' scripts/link-install.sh
echo 'chmod 04755 /opt/link/bin/link' >> scripts/link-install.sh
shot test "$work/ebbline" "zygos build turbine-link 2>&1 | tail -22" "zygos test turbine-link@2.3.0" "zygos show turbine-link@2.3.0 | head -7"
sed -i '$d' scripts/link-install.sh
echo 'echo "key=$ENROL_KEY" | gzip > /etc/ebbline/enrol.gz' >> scripts/link-enrol.sh
shot secret "$work/ebbline" "zygos build turbine-link"
shot log "$work/ebbline" "zygos builds" "zygos log turbine-link --stage enrol" "zygos log turbine-link --steps" "zygos sweep"
sed -i '$d' scripts/link-enrol.sh
printf 'mkdir -p /opt/tools\necho "#!/bin/sh" > /opt/tools/watch\necho "watch:x:300:300:Watch:/:/bin/false" >> /etc/passwd\nchmod 0700 /home 2>/dev/null || mkdir -m 0700 /home\n' >> scripts/harden.sh
sed -i 's/"ebb-base@stable"/"ebb-base"/' images/tide-desk.toml
shot family "$work/ebbline" "zygos due" "zygos build --due --quiet" "zygos lineage ebb-base@1.4.0" \
    "zygos recall ebb-base@1.4.0 --why 'weak key in harden.sh' --descendants --yes" "zygos locate turbine-link@stable --region north-sound" "zygos lineage ebb-base@1.4.0"
zygos reinstate ebb-base@1.4.0 >/dev/null 2>&1
zygos recall tide-desk@1.0.0 --why 'freezes at high tide' --yes >/dev/null 2>&1
echo 'INTERVAL=12' > files/link.d/interval.conf
zygos lineage ebb-base@1.4.0 --html > "$work/family.html"
page family-page "$work/family.html"
zygos reinstate tide-desk@1.0.0 >/dev/null 2>&1
shot list "$work/ebbline" "zygos list" "zygos show turbine-link@stable"
shot diff "$work/ebbline" "zygos diff ebb-base@1.4.0 ebb-base" "zygos diff ebb-base@1.4.0 ebb-base --file /etc/passwd"
mv scripts/link-enable.sh "$work/enable" && sed 's/respawn/once/' "$work/enable" > scripts/link-enable.sh && chmod 755 scripts/link-enable.sh
sed -i '/^name   = "the link runs"/a level  = "warn"' images/turbine-link.toml
zygos build turbine-link --quiet >/dev/null 2>&1
mv "$work/enable" scripts/link-enable.sh
printf '\n[[stage]]\nname = "note"\ninline = "date > /etc/ebbline/built"\n' >> images/buoy-logger.toml
zygos build buoy-logger --quiet >/dev/null 2>&1
shot hunt "$work/ebbline" "zygos hunt turbine-link --check 'the link runs'" "zygos repeat turbine-link@stable" "zygos repeat buoy-logger"
sed -i '/^level  = "warn"/d' images/turbine-link.toml
for _ in 1 2 3; do zygos build buoy-logger --force --quiet >/dev/null 2>&1; done
printf '\n[keep]\nversions = 2\n' >> zygos.toml
shot prune "$work/ebbline" "zygos prune --all" "zygos prune --yes"
sed -i 's/^series/sereis/; s/ebb-base@stable/ebb-bsae@stable/; s/"tar"/"qcow3"/; s|scripts/desk-install.sh|scripts/desk-instal.sh|' images/tide-desk.toml
zygos new "$work/found" >/dev/null 2>&1 # a base that is found by rule
cd "$work/found"
sed -i '/^release/,/^sha256/d; s|^\[base.field-os\]|&\nnewest = "1.*"\nfeed = "bases"\nfile = "field-os-${release}.tar.zst"|' zygos.toml
(cd bases && sha256sum -- *.zst > SHA256SUMS)
zygos build first --quiet >/dev/null
zstd -dqf bases/field-os-1.2.0.tar.zst -o newer.tar && tar -rf newer.tar images && zstd -qf --rm newer.tar -o bases/field-os-1.10.0.tar.zst
(cd bases && sha256sum -- *.zst > SHA256SUMS)
shot lint "$work/ebbline" "zygos lint" "cd ../found" "zygos due" "zygos bases --refresh" "zygos due" "zygos preview first" \
    "zygos build first --quiet" "(cd bases && sha256sum *1.2.0* > SHA256SUMS)   # the publisher takes a release away" "zygos build first"
cp -r "$here/../../examples/debian" "$work/debian"
cp -r "$here"/../../.cache/debian/{bases,zygos.toml} "$work/debian/"
cd "$work/debian"
zygos build field-gateway field-machine --quiet >/dev/null
shot machine "$work/debian" "zygos log field-machine | grep -v ' | '" "zygos show field-machine" \
    "zygos try field-machine --boot -- systemctl --failed --no-legend --plain"
