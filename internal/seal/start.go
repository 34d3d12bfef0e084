package seal

import (
	"embed"
	"fmt"
	"maps"
	"path"
	"slices"
	"strings"

	"zygos/internal/layer"
)

//go:embed start
var start embed.FS

// Script runs once on the first start of each clone.
type Script struct {
	Name    string
	Text    []byte
	Env     []string
	Network bool // not before the network is there
	Trial   bool // also where the untouched disk is started to see whether it works
}

// added is a file that sealing puts into a tree.
type added struct {
	path string
	mode uint32
	text string
	link string
}

const (
	home    = "usr/lib/zygos"
	units   = "usr/lib/systemd/system"
	scripts = home + "/first-boot.d"
	online  = home + "/first-boot-network.d"
)

// unit is how an init starts a program: a file, and the link that turns it on.
type unit struct{ name, at, link, target string }

// initKind is an init that is known, by a file that tells.
type initKind struct {
	tells               []string
	start, boot, online unit
}

var inits = []initKind{systemd(), openRC()}

func systemd() initKind {
	on := func(name, target string) unit {
		return unit{name + ".service", units + "/zygos-" + name + ".service", units + "/" + target + ".wants/zygos-" + name + ".service",
			"../zygos-" + name + ".service"}
	}
	return initKind{[]string{"usr/lib/systemd/systemd", "lib/systemd/systemd"}, on("first-start", "sysinit.target"),
		on("first-boot", "multi-user.target"), on("first-boot-network", "multi-user.target")}
}

func openRC() initKind {
	on := func(name, level string) unit {
		at := "etc/init.d/zygos-" + name
		return unit{name + ".openrc", at, "etc/runlevels/" + level + "/zygos-" + name, "/" + at}
	}
	return initKind{[]string{"sbin/openrc-run"}, on("first-start", "boot"), on("first-boot", "default"), on("first-boot-network", "default")}
}

// firstStart is what brings back on each clone what sealing took away, and runs the scripts of its first boot; nothing
// for a tree without an init that is known. lacks says what could not be brought back, and the package that helps.
func firstStart(tree *layer.Tree, list []Script) (files []added, lacks []string) {
	has := func(names ...string) bool {
		return slices.ContainsFunc(names, func(name string) bool { return tree.Follow(name) != nil })
	}
	i := slices.IndexFunc(inits, func(k initKind) bool { return has(k.tells...) })
	if i < 0 {
		if len(list) > 0 {
			lacks = append(lacks, "an init that runs first_boot: install systemd or OpenRC")
		}
		return nil, lacks
	}
	k := &inits[i]
	if has("usr/sbin/sshd") && !has("usr/bin/ssh-keygen") {
		lacks = append(lacks, "ssh-keygen, which makes host keys: install openssh-client or openssh-keygen")
	}
	if !has("usr/bin/systemd-repart", "usr/bin/growpart", "usr/sbin/sfdisk", "sbin/sfdisk") {
		lacks = append(lacks, "a program that grows the root's partition: install systemd-repart, cloud-guest-utils or sfdisk")
	}
	if !has("usr/lib/systemd/systemd-growfs", "lib/systemd/systemd-growfs", "usr/sbin/resize2fs", "sbin/resize2fs") {
		lacks = append(lacks, "a program that grows the root's file system: install e2fsprogs-extra or systemd")
	}
	put := func(name, at string, mode uint32) {
		files = append(files, added{path: at, mode: mode, text: embedded(name)})
	}
	turnOn := func(u unit) {
		mode := uint32(0o644)
		if strings.HasPrefix(u.at, "etc/init.d/") {
			mode = 0o755
		}
		put(u.name, u.at, mode)
		files = append(files, added{path: u.link, mode: 0o777, link: u.target})
	}
	put("first-start", home+"/first-start", 0o755)
	put("root.conf", home+"/repart.d/root.conf", 0o644)
	turnOn(k.start)
	dirs := map[string]unit{}
	for n, s := range list {
		dir, u := scripts, k.boot
		if s.Network {
			dir, u = online, k.online
		}
		dirs[dir] = u
		at := path.Join(dir, fmt.Sprintf("%02d-%s", n+1, s.Name))
		files = append(files, added{path: at, mode: 0o755, text: string(s.Text)})
		if s.Trial {
			files = append(files, added{path: at + ".trial", mode: 0o644})
		}
		if len(s.Env) > 0 {
			files = append(files, added{path: at + ".env", mode: 0o600, text: strings.Join(s.Env, "\n") + "\n"})
		}
	}
	if len(list) > 0 {
		put("first-boot", home+"/first-boot", 0o755)
	}
	for _, dir := range slices.Sorted(maps.Keys(dirs)) {
		turnOn(dirs[dir])
	}
	return files, lacks
}

func embedded(name string) string {
	text, err := start.ReadFile("start/" + name)
	if err != nil {
		panic(err) // it is part of this program
	}
	return string(text)
}
