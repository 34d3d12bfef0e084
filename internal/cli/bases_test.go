package cli_test

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"zygos/internal/needtest"
)

// diskBase pins a file as a base and defines an image on it.
func (p *person) diskBase(name, file, more string) {
	sum := strings.Fields(p.sh("sha256sum " + file))[0]
	p.write("zygos.toml", p.read("zygos.toml")+fmt.Sprintf("\n[base.%s]\nrelease = \"1.0\"\nfrom = [\"%s\"]\nsha256 = \"%s\"\n",
		name, file, sum))
	p.write("images/on-"+name+".toml", "series = \"1.0\"\nbase = \""+name+"\"\n[[stage]]\nname = \"s\"\ninline = \"echo hello > /etc/hello; "+
		"echo more >> /boot/kernel\"\n"+more)
}

// oldDisks makes the disks of testdata/old-disks.sh.
func (p *person) oldDisks() {
	script, err := os.ReadFile("testdata/old-disks.sh")
	require.NoError(p.t, err)
	p.sh(string(script))
}

// A disk becomes a tree, and its children's disks are laid out as it was: table, ids, what starts it; the root takes the size it is given.
func TestDisksAsBases(t *testing.T) {
	t.Parallel()
	everyone(t, func(t *testing.T, p *person) {
		p.starter()
		p.oldDisks()
		p.sh("xz -T1 -0 -k mbr.img && qemu-img convert -f raw -O qcow2 -c gpt.img gpt.qcow2 && mv mbr.img.xz bases/ && mv gpt.qcow2 bases/")
		artifact := "[[artifact]]\nformat = \"raw\"\nboot = \"base\"\n"
		p.diskBase("mbr", "bases/mbr.img.xz", artifact+"size = \"100MiB\"\n")
		p.diskBase("gpt", "bases/gpt.qcow2", artifact+"[[artifact]]\nname = \"bare\"\nformat = \"raw\"\nboot = \"none\"\n"+
			"[[artifact]]\nformat = \"tar\"\n")
		p.ok("build", "on-mbr", "on-gpt")
		p.write("zygos.toml", p.read("zygos.toml")+"\n[region.out]\nkind = \"folder\"\npath = \"out\"\n")
		p.ok("publish", "on-mbr", "on-gpt", "--region", "out")

		mbr := p.glob("out/on-mbr/*/*.raw")[0]
		out := p.sh(`sfdisk -d ` + mbr + `; dd if=` + mbr + ` of=root bs=1M skip=1 status=none
e2fsck -fn root >/dev/null 2>&1; blkid -p -o export root; cmp -n 440 front ` + mbr + `; cmp -n 60000 -i 0:512 core ` + mbr + `
debugfs -R 'cat /etc/hello' root 2>/dev/null; debugfs -R 'cat /boot/kernel' root 2>/dev/null`)
		require.Contains(t, out, "label-id: 0x12345678")
		require.Regexp(t, `start= +2048, size= +202752, type=83, bootable`, out, "the root has grown to the disk")
		for _, says := range []string{"UUID=11111111-2222-3333-4444-555555555555", "LABEL=old-root", "hello\na kernel\nmore\n"} {
			require.Contains(t, out, says)
		}

		// One with logical partitions, of swap and of something small.
		p.sh(`xz -dc bases/mbr.img.xz > logical.img; truncate -s 80M logical.img
printf 'label: dos\nlabel-id: 0x12345678\nl1 : start=2048, size=122880, type=83, bootable\nl2 : start=126976, type=5
l5 : start=129024, size=8192, type=82\nl6 : start=139264, size=4096, type=da\nl7 : start=145408, size=4096, type=82\n' |
 sfdisk -q --force --wipe never --wipe-partitions never logical.img
truncate -s 4M swap; mkswap -U 11111111-2222-3333-4444-000000000001 swap
dd if=swap of=logical.img bs=512 seek=129024 conv=notrunc status=none; dd if=core of=logical.img bs=512 seek=139264 conv=notrunc status=none
cp logical.img bases/`)
		p.diskBase("logical", "bases/logical.img", artifact)
		p.ok("build", "on-logical")
		p.ok("publish", "on-logical", "--region", "out")
		logical := p.glob("out/on-logical/*/*.raw")[0]
		p.sh(`sfdisk -V ` + logical + ` | grep 'No errors'
for f in logical.img ` + logical + `; do sfdisk -d $f | sed "s|^$f||; /^device:/d" > table-$(basename $f); done
cmp table-*; dd if=` + logical + ` of=part bs=512 skip=129024 count=8192 status=none; blkid -p part | grep 000000000001
cmp -n 60000 -i 0:` + fmt.Sprint(139264*512) + ` core ` + logical)

		gpt := p.glob("out/on-gpt/*/on-gpt-1.0.0.raw")[0]
		was := p.sh(`sfdisk -d gpt.img | sed 's/^gpt.img//; /^device:/d; /lba/d'`)
		out = p.sh(`sfdisk -d ` + gpt + ` | sed 's|^` + gpt + `||; /^device:/d; /lba/d'`)
		require.Equal(t, was, out, "the table is as it was")
		out = p.sh(`part() { dd if=` + gpt + ` of=$1 bs=1M skip=$2 count=$3 status=none; blkid -p -o export $1; }
sfdisk -V ` + gpt + ` | head -3; cmp -n 60000 -i 0:1048576 core ` + gpt + `
part esp 2 40; fsck.fat -n esp >/dev/null; part boot 42 8; e2fsck -fn boot >/dev/null 2>&1
part root 50 200; e2fsck -fn root >/dev/null 2>&1
mcopy -i esp '::EFI/Start me.efi' - | cmp - core; debugfs -R 'cat /kernel' boot 2>/dev/null; debugfs -R 'cat /etc/hello' root 2>/dev/null
debugfs -R 'ls /boot' root 2>/dev/null | grep -c kernel || true; debugfs -R 'cat /etc/second' root 2>/dev/null`)
		for _, says := range []string{"No errors", "UUID=0BAD-CAFE", "LABEL=OLDESP", "UUID=11111111-2222-3333-4444-666666666666",
			"LABEL=old-boot", "UUID=11111111-2222-3333-4444-777777777777", "a kernel\nmore\nhello\n0\nlinked\n"} {
			require.Contains(t, out, says)
		}
		bare := p.glob("out/on-gpt/*/*bare*.raw")[0]
		require.Contains(t, p.sh("blkid -p -o export "+bare), "TYPE=ext4", "the whole tree in one file system")
		require.Contains(t, p.sh("debugfs -R 'cat /boot/kernel' "+bare+" 2>/dev/null"), "a kernel\nmore\n")

		// What does not fit, or is no disk, is said.
		p.diskBase("small", "bases/mbr.img.xz", artifact+"size = \"3MiB\"\n")
		p.fails(1, "the tree needs a disk of at least", "build", "on-small")
		p.image("[[artifact]]\nformat = \"raw\"\nboot = \"base\"\n")
		p.fails(1, "its base was no disk, so that there is nothing to lay it out as; give the artifact boot = \"uefi\"", "build", "first")
		p.sh("head -c 20000000 gpt.img > bases/cut.img")
		p.diskBase("cut", "bases/cut.img", artifact)
		p.fails(1, "base cut: bases/cut.img cannot be used: ", "build", "on-cut")
	})
}

// A disk that was made elsewhere becomes a version, as it is: it can be compared, judged, placed, and be a parent.
func TestAdoptedImages(t *testing.T) {
	t.Parallel()
	anyone(t, func(t *testing.T, p *person) {
		p.starter()
		p.oldDisks()
		definition := "series = \"1.0\"\nbase = \"field-os\"\n[[check]]\nname = \"kernel\"\nexpect = [{ path = \"/boot/kernel\" }]\n" +
			"[[artifact]]\nformat = \"tar\"\n[publish]\nregions = [\"here\"]\n"
		p.write("images/old.toml", definition)
		p.write("images/child.toml", "series = \"1.0\"\nbase = \"old\"\n[[stage]]\nname = \"s\"\ninline = \"echo child > /etc/child\"\n"+
			"[[artifact]]\nformat = \"raw\"\nboot = \"base\"\n")
		p.ok("adopt", "gpt.img", "--as", "old", "--version", "1.0.0")
		sum := strings.Fields(p.sh("sha256sum gpt.img"))[0]
		shown := p.ok("show", "old")
		require.Contains(t, shown, "adopted@"+sum[:12])
		require.Regexp(t, "artifact +raw +140.0 MiB +sha256:"+sum, shown, "the file as it is")
		require.Contains(t, p.ok("test", "old"), "1 passed")
		p.ok("publish", "old")
		p.sh("cmp gpt.img regions/here/old/*/*.raw")
		p.ok("build", "child")
		require.Contains(t, p.ok("diff", "old", "child"), "1 added, 0 removed")
		require.Contains(t, p.run("due").out, "1.0.0 was adopted, and the definition builds another")
		p.fails(1, "old@1.0.0 was adopted, and not built: there is nothing to repeat", "repeat", "old")

		p.fails(5, "old 1.0.0 exists already; versions never change", "adopt", "gpt.img", "--as", "old", "--version", "1.0.0")
		p.fails(1, "no such file", "adopt", "nothing.img", "--as", "old", "--version", "1.0.1")
		p.fails(2, "is no version; write MAJOR.MINOR.PATCH", "adopt", "gpt.img", "--as", "old", "--version", "1")
		p.sh("head -c 9000000 gpt.img > cut.img; gzip -1 -k gpt.img")
		p.fails(1, "cut.img", "adopt", "cut.img", "--as", "old", "--version", "1.0.1")
		p.fails(2, "is packed; unpack it first", "adopt", "gpt.img.gz", "--as", "old", "--version", "1.0.1")
		p.ok("adopt", p.glob("bases/*.zst")[0], "--as", "old", "--version", "1.0.1")
		require.Regexp(t, "artifact +tar ", p.ok("show", "old"))
	})
}

// A container image that Zygos made is a base like the archive of the same tree.
func TestContainerImageAsBase(t *testing.T) {
	t.Parallel()
	p := me(t)
	p.starter()
	p.image("[[stage]]\nname = \"one\"\ninline = \"echo 1 > /one; ln /one /same; rm -r /etc/init.d\"\n[[stage]]\nname = \"two\"\n" +
		"inline = \"rm /one; echo 2 > /two\"\n[[artifact]]\nformat = \"oci\"\n")
	p.ok("build", "first")
	p.ok("publish", "first")
	p.sh("cp regions/here/first/*/*.oci.tar bases/")
	p.diskBase("image", p.glob("bases/*.oci.tar")[0], "[[artifact]]\nformat = \"tar\"\n")
	p.write("images/on-image.toml", "series = \"1.0\"\nbase = \"image\"\n[[artifact]]\nformat = \"tar\"\n")
	p.ok("build", "on-image")
	require.Contains(t, p.ok("diff", "first", "on-image"), "files      the same")

	p.sh("mkdir bases/layout && tar -C bases/layout -xf bases/*.oci.tar")
	p.diskBase("folder", "bases/layout/index.json", "")
	p.write("images/on-folder.toml", strings.Replace(p.read("images/on-image.toml"), "image", "folder", 1))
	p.ok("build", "on-folder")
	require.Contains(t, p.ok("diff", "first", "on-folder"), "files      the same")
	p.sh("for f in bases/layout/blobs/sha256/*; do echo x >> $f; done")
	p.fails(1, "bytes, and", "build", "on-folder", "--state", "another")
}

// What an image of another says of its programs' environment goes with the tree: to stages, shells, children and images made of them.
func TestEnvironmentOfAContainerImage(t *testing.T) {
	t.Parallel()
	anyone(t, func(t *testing.T, p *person) {
		p.starter()
		p.image("[[stage]]\nname = \"one\"\ninline = \"mkdir -p /opt/gauge; echo MINE=1 > /etc/environment; printf '#!/bin/sh\\necho measured' " +
			"> /opt/gauge/gauge; chmod 755 /opt/gauge/gauge\"\n[[artifact]]\nformat = \"oci\"\n")
		p.ok("build", "first")
		p.ok("publish", "first")
		p.sh(`skopeo copy --quiet --insecure-policy oci-archive:"$(ls regions/here/first/*/*.oci.tar)" oci:layout:x
python3 - <<'END'
import json,hashlib
def blob(d): return "layout/blobs/sha256/"+d["digest"][7:]
def put(v):
 text=json.dumps(v).encode(); h=hashlib.sha256(text).hexdigest(); open("layout/blobs/sha256/"+h,"wb").write(text)
 return {"digest":"sha256:"+h,"size":len(text)}
index=json.load(open("layout/index.json")); m=json.load(open(blob(index["manifests"][0])))
c=json.load(open(blob(m["config"])))
c["config"]["Env"]=["PATH=/opt/gauge:/usr/bin:/bin","GAUGE_SITE=north a=b","HOME=/nowhere","ZYGOS_STAGE=no"]
m["config"].update(put(c)); index["manifests"][0].update(put(m)); json.dump(index,open("layout/index.json","w"))
END
tar -C layout -cf bases/gauge.oci.tar .`)
		more := "[[artifact]]\nformat = \"oci\"\n[publish]\nregions = [\"here\"]\n"
		p.diskBase("gauge", "bases/gauge.oci.tar", more)
		stage := "[[stage]]\nname = \"s\"\ninline = \"gauge > /m; env | sort > /env\"\nenv = { SITE = \"x\" }\n"
		p.write("images/on-gauge.toml", "series = \"1.0\"\nbase = \"gauge\"\n"+stage+more)
		p.fails(4, "gauge", "build", "on-gauge")
		p.write("zygos.toml", p.read("zygos.toml")+"environment = true\n")
		p.ok("build", "on-gauge")
		env := p.ok("try", "on-gauge", "--", "cat", "/m", "/env", "/etc/environment")
		for _, says := range []string{"measured\n", "\nGAUGE_SITE=north a=b\n", "\nPATH=/opt/gauge:/usr/bin:/bin\n", "\nHOME=/root\n",
			"\nZYGOS_STAGE=s\n", "\nSITE=x\n", "\nMINE=1\n# The environment of the container image"} {
			require.Contains(t, env, says)
		}
		require.NotContains(t, env, "nowhere")
		p.write("images/child.toml", "series = \"1.0\"\nbase = \"on-gauge\"\n"+stage+more)
		p.ok("build", "child")
		require.Contains(t, p.ok("try", "child", "--", "gauge"), "measured")
		p.ok("publish", "child")
		config := p.sh("skopeo inspect --config oci-archive:\"$(ls regions/here/child/*/*.oci.tar)\"")
		require.Contains(t, config, "GAUGE_SITE=north a=b")
		require.Equal(t, 1, strings.Count(config, "PATH="))
	})
}

// An image that another program pushed to a registry is a base by its digest, also when its tag has moved on.
func TestImageInARegistryAsBase(t *testing.T) {
	t.Parallel()
	p := me(t)
	at := registry(t, tempDir(t), "")
	p.starter()
	push := func(n string) (digest string) {
		p.image("[[stage]]\nname = \"one\"\ninline = \"echo " + n + " > /one\"\n[[artifact]]\nformat = \"oci\"\n")
		p.ok("build", "first")
		p.ok("publish", "first")
		p.sh(`skopeo copy --quiet --insecure-policy --dest-tls-verify=false oci-archive:"$(ls -t regions/here/first/*/*.oci.tar | head -1)" ` +
			`docker://` + at + `/os/field:12`)
		return strings.TrimSpace(p.sh("skopeo inspect --tls-verify=false --format '{{.Digest}}' docker://" + at + "/os/field:12"))
	}
	digest := push("1")
	organisation := p.read("zygos.toml")
	pin := func(digest string) {
		p.write("zygos.toml", organisation+"\n[base.image]\nrelease = \"12\"\nfrom = [\"oci://"+at+"/os/field:12\"]\nsha256 = \""+digest+"\"\n")
	}
	pin(digest)
	p.write("images/on-image.toml", "series = \"1.0\"\nbase = \"image\"\n[[artifact]]\nformat = \"tar\"\n")
	p.ok("build", "on-image")
	require.Contains(t, p.ok("diff", "first", "on-image"), "files      the same")

	pin(strings.Repeat("0", 64))
	require.Contains(t, p.fails(1, "is not the archive that zygos.toml pins", "build", "on-image").err, strings.TrimPrefix(digest, "sha256:"))
	require.NotEqual(t, digest, push("2"), "the tag moves on")
	pin(digest)
	p.ok("build", "on-image", "--state", "another")
	require.Contains(t, p.ok("try", "on-image", "--state", "another", "--", "cat", "/one"), "1")
}

// Disks with GRUB, as others publish them: children of one that starts by its first sector, and of one that starts by UEFI and shim, come
// up by the base's own loader.
func TestChildrenOfDisksWithGRUB(t *testing.T) {
	needtest.Long(t)
	t.Parallel()
	p := me(t)
	debian(t, p)
	p.write("images/grubbed.toml", `series = "12.0"
base = "debian"
[[stage]]
name    = "machine"
scripts = ["scripts/packages.sh"]
env     = { PACKAGES = "`+strings.Join([]string{"linux-image-cloud-amd64", "initramfs-tools", "systemd-sysv", "dbus", "udev", "grub-pc-bin",
		"grub2-common", "grub-efi-amd64-signed", "shim-signed"}, " ")+`" }
[[stage]]
name   = "grub"
bring  = ["/srv/grub"]
inline = """
set -eu
k=$(basename /boot/vmlinuz-*)
mkdir -p /boot/grub /srv/grub /boot/efi
cat > /boot/grub/grub.cfg <<END
search --no-floppy --set=root --label cloudroot
set timeout=0
menuentry base {
 linux /boot/$k root=LABEL=cloudroot ro console=ttyS0
 initrd /boot/initrd.img-${k#vmlinuz-}
}
END
cp -r /usr/lib/grub/i386-pc /boot/grub/
cp /usr/lib/grub/i386-pc/boot.img /srv/grub/
grub-mkimage -O i386-pc -p '(hd0,msdos1)/boot/grub' -o /srv/grub/core.img biosdisk part_msdos ext2 normal linux \\
    search search_label configfile
cp /usr/lib/shim/shimx64.efi.signed /usr/lib/grub/x86_64-efi-signed/grubx64.efi.signed /srv/grub/
echo "LABEL=cloudroot / ext4 errors=remount-ro 0 1" > /etc/fstab
"""
network = "none"
[[artifact]]
format = "tar"
`)
	p.ok("build", "grubbed")
	p.ok("publish", "grubbed", "--region", "shelf")
	script, err := filepath.Abs("testdata/grub-disks.sh")
	require.NoError(t, err)
	cmd := exec.Command("sh", script, p.glob("regions/shelf/grubbed/*/*.tar.zst")[0], p.glob(".zygos/builds/*/files/grub/srv/grub")[0])
	cmd.Dir = filepath.Join(p.dir, "bases")
	out, err := cmd.CombinedOutput()
	require.NoError(t, err, "%s", out)
	for _, name := range []string{"bios", "uefi"} {
		p.diskBase(name, "bases/"+name+".raw", "[[artifact]]\nformat = \"qcow2\"\nboot = \"base\"\nsize = \"2GiB\"\nboots = \"10m\"\n")
	}
	r := p.run("build", "on-bios", "on-uefi")
	require.Zero(t, r.code, r.err)
	require.Regexp(t, `on-bios .*boot +qcow2 +came up in`, r.err)
	require.Regexp(t, `on-uefi .*boot +qcow2 +came up in`, r.err)
}
