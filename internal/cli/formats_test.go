package cli_test

import (
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"testing"

	"github.com/stretchr/testify/require"
)

// everyFormat is a tree that looks as if it could start, in every format.
const everyFormat = `
[[stage]]
name = "machine"
inline = """
mkdir -p /boot /usr/lib/systemd/boot/efi /sbin
echo kernel > /boot/vmlinuz-6.1
echo initrd > /boot/initrd.img-6.1
echo loader > /usr/lib/systemd/boot/efi/systemd-bootx64.efi
[ -e /sbin/init ] || echo init > /sbin/init
"""
[[stage]]
name = "secret"
inline = "echo hidden > /gone; echo kept > /kept"
[[stage]]
name = "away"
inline = "rm /gone"
[[artifact]]
format = "raw"
[[artifact]]
format = "qcow2"
[[artifact]]
format = "qcow2"
name = "zstd"
compression = "zstd"
[[artifact]]
format = "qcow2"
name = "none"
compression = "none"
[[artifact]]
format = "vmdk"
[[artifact]]
format = "vhd"
[[artifact]]
format = "vhd"
name = "fixed"
layout = "fixed"
[[artifact]]
format = "vhdx"
[[artifact]]
format = "ova"
cpus = 3
memory = "512MiB"
[[artifact]]
format = "oci"
[[artifact]]
format = "raw"
name = "machine"
boot = "uefi"
esp = "64MiB"
size = "400MiB"
cmdline = "quiet"
`

// digestOf is that of an artifact by its name.
func digestOf(list []struct{ Name, Digest string }, name string) string {
	for _, a := range list {
		if a.Name == name {
			return a.Digest
		}
	}
	return "none"
}

// Every format holds the same tree, as other programs read it; another user, folder and time give the same bytes.
func TestEveryFormatHoldsTheTree(t *testing.T) {
	t.Parallel()
	var mu sync.Mutex
	digests := map[string]bool{}
	t.Run("all", func(t *testing.T) {
		everyone(t, func(t *testing.T, p *person) {
			p.starter()
			p.image(everyFormat)
			p.ok("build", "first")
			p.ok("publish", "first")
			var shown struct {
				Artifacts []struct{ Name, Digest string }
			}
			require.NoError(t, json.Unmarshal([]byte(p.ok("show", "first", "--json")), &shown))
			require.Len(t, shown.Artifacts, 12)
			mu.Lock()
			digests[fmt.Sprint(shown.Artifacts)] = true
			mu.Unlock()
			file := func(end string) string {
				list := p.glob("regions/here/first/0.1.0/first-0.1.0" + end)
				require.Len(t, list, 1, end)
				return list[0]
			}
			say := func(args ...string) string {
				out, err := exec.Command(args[0], args[1:]...).CombinedOutput()
				require.NoError(t, err, "%v: %s", args, out)
				return string(out)
			}
			raw := file(".raw")
			say("e2fsck", "-fn", raw)
			for end, format := range map[string]string{".qcow2": "qcow2", "-zstd.qcow2": "qcow2", "-none.qcow2": "qcow2", ".vmdk": "vmdk",
				".vhd": "vpc", "-fixed.vhd": "vpc", ".vhdx": "vhdx"} {
				require.Contains(t, say("qemu-img", "compare", "-f", "raw", "-F", format, raw, file(end)), "identical", end)
			}
			dir := tempDir(t)
			say("tar", "-C", dir, "-xf", file(".ova"))
			manifest, err := os.ReadFile(filepath.Join(dir, "first.mf"))
			require.NoError(t, err)
			for _, name := range []string{"first.ovf", "first-disk1.vmdk"} {
				sum, _, _ := strings.Cut(say("sha256sum", filepath.Join(dir, name)), " ")
				require.Contains(t, string(manifest), fmt.Sprintf("SHA256(%s)= %s\n", name, sum))
			}
			require.Contains(t, say("qemu-img", "compare", "-f", "raw", raw, filepath.Join(dir, "first-disk1.vmdk")), "identical")
			envelope, err := os.ReadFile(filepath.Join(dir, "first.ovf"))
			require.NoError(t, err)
			require.Contains(t, string(envelope), "<rasd:VirtualQuantity>512</rasd:VirtualQuantity>")
			size, err := os.Stat(filepath.Join(dir, "first-disk1.vmdk"))
			require.NoError(t, err)
			require.Contains(t, string(envelope), fmt.Sprintf("ovf:size=\"%d\"", size.Size()))

			// A container image: read and copied by another program; no layer holds what a later stage took away.
			layers := filepath.Join(dir, "layers")
			say("skopeo", "copy", "--quiet", "--insecure-policy", "oci-archive:"+file(".oci.tar"), "dir:"+layers)
			list, err := filepath.Glob(layers + "/*")
			require.NoError(t, err)
			names := ""
			for _, l := range list {
				if out, err := exec.Command("tar", "-tzf", l).Output(); err == nil {
					names += string(out)
				}
			}
			require.Contains(t, names, "./kept\n")
			require.Contains(t, names, "./etc/passwd\n")
			require.NotContains(t, names, "gone")

			// A whole disk: partitions, loader, kernel and what belongs to them are where their readers look.
			machine := file("-machine.raw")
			require.Contains(t, say("sgdisk", "-v", machine), "No problems found")
			info, err := os.Stat(machine)
			require.NoError(t, err)
			require.Equal(t, int64(400<<20), info.Size())
			esp, root := filepath.Join(dir, "esp"), filepath.Join(dir, "root")
			say("dd", "if="+machine, "of="+esp, "bs=1M", "skip=1", "count=64", "status=none")
			say("dd", "if="+machine, "of="+root, "bs=1M", "skip=65", "count=334", "status=none")
			say("fsck.vfat", "-n", esp)
			say("e2fsck", "-fn", root)
			require.Equal(t, "loader\n", say("mtype", "-i", esp, "::EFI/BOOT/BOOTX64.EFI"))
			entry := say("mtype", "-i", esp, "::loader/entries/first-6.1.conf")
			part := strings.ToLower(strings.Fields(strings.SplitAfter(say("sgdisk", "-i", "2", machine), "Partition unique GUID: ")[1])[0])
			require.Contains(t, entry, "options root=PARTUUID="+part+" ro quiet\n")
			inside := func(command string) string {
				out, err := exec.Command("debugfs", "-R", command, root).Output()
				require.NoError(t, err)
				return string(out)
			}
			require.Contains(t, inside("cat /etc/fstab"), "PARTUUID="+part+" / ext4")
			require.Equal(t, "first\n", inside("cat /etc/kernel/entry-token"))
			require.Equal(t, "kept\n", inside("cat /kept"))

			// Made later from the kept layers, an artifact is what it would have been.
			later := p.ok("capture", "first", "--format", "vmdk", "--name", "later", "--json")
			require.Contains(t, later, digestOf(shown.Artifacts, "vmdk"))
			p.fails(1, "has an artifact \"later\" already", "capture", "first", "--format", "tar", "--name", "later")
			p.fails(2, "an artifact of the format tar has no size", "capture", "first", "--format", "tar", "--size", "1GiB")
			p.fails(2, "\"1GB\" is no size", "capture", "first", "--format", "raw", "--size", "1GB")
			p.fails(2, "there is no format \"disc\"", "capture", "first", "--format", "disc")
			require.Contains(t, p.ok("publish", "first"), "later (vmdk)")
			require.Contains(t, p.ok("build", "first", "--quiet"), "up to date")

			p.write("images/first.toml", strings.Replace(p.read("images/first.toml"), "size = \"400MiB\"", "size = \"60MiB\"", 1))
			p.fails(1, "a size of 60 MiB has no room for the root beside the EFI system partition of 64 MiB", "build", "first")
			p.write("images/first.toml", strings.Replace(p.read("images/first.toml"), "echo loader >", "true #", 1))
			r := p.run("build", "first")
			require.Equal(t, 1, r.code)
			require.Contains(t, r.err, "the tree cannot start by itself, it has no boot loader")
			require.NotRegexp(t, `capture +(raw|qcow2) `, r.err)
			p.fails(2, "first@0.1.0 has no artifact", "try", "first@0.1.0", "--boot", "--artifact", "raw")
			require.Equal(t, "kept\n", p.ok("try", "first@0.1.0", "--", "cat", "/kept"))
			p.fails(3, "", "try", "first@0.1.0", "--", "sh", "-c", "exit 3")
		})
	})
	require.Len(t, digests, 1)
}

// Partitions beside the root hold the files below their folders, are told by fstab, and are what other programs take them for.
func TestPartitionsOfADisk(t *testing.T) {
	t.Parallel()
	anyone(t, func(t *testing.T, p *person) {
		p.starter()
		stage := strings.Split(everyFormat, "[[artifact]]")[0] + `[[stage]]
name = "data"
inline = """
mkdir -p /var/data/deep /var/log/old; echo kept > /var/data/deep/file; ln /var/data/deep/file /var/data/other; chmod 2775 /var/data
seq 500000 > /var/data/long
echo line > /var/log/old/one; ln /kept /var/data/far; printf 'tmpfs /tmp tmpfs defaults 0 0' > /etc/fstab
"""
[seal]
keep = ["logs"]
[[artifact]]
format = "raw"
boot = "uefi"
esp = "64MiB"
`
		parts := `[[artifact.partition]]
name = "data"
size = "20MiB"
mount = "/var/data"
[[artifact.partition]]
name = "swap"
size = "8MiB"
type = "swap"
[[artifact.partition]]
name = "var"
size = "30MiB"
mount = "/var"
[[artifact.partition]]
name = "new"
size = "4MiB"
mount = "/srv/new"
`
		p.image(stage + "size = \"200MiB\"\n" + parts)
		require.Contains(t, p.ok("preview", "first"), "200.0 MiB, data 20.0 MiB on /var/data, swap 8.0 MiB, var 30.0 MiB on /var")
		p.ok("build", "first")
		p.ok("publish", "first")
		raw := p.glob("regions/here/first/*/*.raw")[0]
		out := p.sh(`sfdisk -V ` + raw + `; sfdisk -d ` + raw + `
n=0; for p in $(sfdisk -d ` + raw + ` | sed -n 's/.*start= *\([0-9]*\), size= *\([0-9]*\),.*/\1:\2/p'); do n=$((n+1))
dd if=` + raw + ` of=p$n bs=512 skip=${p%:*} count=${p#*:} status=none; blkid -p -o export p$n; done
for n in 2 4 5 6; do e2fsck -fn p$n 2>&1; done
debugfs -R 'cat /deep/file' p2; debugfs -R 'stat /other' p2 | grep Links; debugfs -R 'stat /' p2 | grep Mode
debugfs -R 'cat /log/old/one' p4
debugfs -R 'ls -l /data' p4 | grep -c deep || true; debugfs -R 'cat /far' p2; debugfs -R 'cat /etc/fstab' p6
debugfs -R 'ls /var' p6 | grep -c log || true`)
		for _, says := range []string{"No errors detected", `name="data"`, "type=0657FD6D-A4AB-43C4-84E5-0933C84B4F4F", "TYPE=swap", "LABEL=swap",
			"LABEL=data", "LABEL=new", "kept\n", "Links: 2", "Mode:  02775", "line\n0\nkept\n",
			"tmpfs /tmp tmpfs defaults 0 0\n"} {
			require.Contains(t, out, says)
		}
		require.Regexp(t, `(?s) / ext4 .*PARTUUID=\S+ none swap sw 0 0\nPARTUUID=\S+ /srv/new ext4 defaults 0 2\nPARTUUID=\S+ /var ext4 .*`+
			`PARTUUID=\S+ /var/data ext4 defaults 0 2\n0\n$`, out)
		require.NotContains(t, out, "WARNING: Filesystem still has errors")

		for wrong, says := range map[string]string{
			strings.Replace(parts, "20MiB", "1MiB", 1):   "partition data needs ",
			strings.Replace(parts, "30MiB", "300MiB", 1): "200 MiB has no room for the root beside the EFI system partition of 64 MiB, data",
		} {
			p.image(stage + "size = \"200MiB\"\n" + wrong)
			p.fails(1, says, "build", "first")
		}
		for wrong, says := range map[string]string{
			strings.Replace(parts, "/srv/new", "/usr/new", 1):                       "what is in /usr is needed before other partitions are there",
			strings.Replace(parts, "/srv/new", "/var", 1):                           "another partition is mounted on /var",
			strings.Replace(parts, "\"new\"", "\"data\"", 1):                        `another partition is called "data"`,
			strings.Replace(parts, "\"new\"", "\"root\"", 1):                        `another partition is called "root"`,
			strings.Replace(parts, "4MiB", "4", 1):                                  `"4" is no size`,
			strings.Replace(parts, "/srv/new", "srv/../x", 1):                       "is no folder to mount it on",
			strings.Replace(parts, "\"swap\"\n[", "\"swap\"\nmount = \"/x\"\n[", 1): "swap is mounted nowhere",
			strings.Replace(parts, "\"swap\"\n[", "\"btrfs\"\n[", 1):                `unknown type of partition "btrfs"`,
			parts + "inode = 1\n":                                                   `unknown key "inode"`,
		} {
			p.image(stage + wrong)
			p.fails(3, says, "lint")
		}
		p.image(strings.Replace(stage, "\"uefi\"\nesp = \"64MiB\"", "\"base\"", 1) + parts)
		p.fails(3, "a disk as the base's has the base's partitions", "lint")
		p.image(strings.Replace(stage, "boot = \"uefi\"\nesp = \"64MiB\"", "", 1) + parts)
		p.fails(3, "partition says nothing about a disk that does not boot", "lint")
	})
}
