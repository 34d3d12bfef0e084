package judge

import (
	"path"
	"slices"
	"strconv"
	"strings"

	"zygos/internal/inventory"
	"zygos/internal/layer"
)

// Link is inventory.Linked.
func (t *Tree) Link(name string) string {
	if n := t.node(name); n != nil && n.Kind == layer.Symlink {
		return n.Link
	}
	return ""
}

// systemd is what starts at boot; ok is false for a tree without it.
func (t *Tree) systemd() (u *inventory.Units, ok bool) {
	t.booting.Do(func() { t.units, t.booted = inventory.ReadUnits(t) })
	return t.units, t.booted
}

// withEnd is the name of a unit: without an end it is a service's.
func withEnd(name string) string {
	if path.Ext(name) == "" {
		return name + ".service"
	}
	return name
}

// starts says whether something starts at boot: under systemd a unit, or a script of a runlevel that it makes a unit of
// (systemd-sysv-generator(8)); else what an init of another kind names.
func (t *Tree) starts(name string) bool {
	u, ok := t.systemd()
	if !ok {
		services := t.inventory().Services
		for _, form := range []string{name, withEnd(name)} {
			if services[form] != "" {
				return true
			}
		}
		return false
	}
	if u.Starts(name) {
		return true
	}
	if script := strings.TrimSuffix(name, ".service"); !u.There(script+".service") && t.node("etc/init.d/"+script) != nil {
		for _, level := range []string{"2", "3", "4", "5"} {
			for _, link := range t.Names("etc/rc" + level + ".d") {
				if base := path.Base(link); len(base) > 3 && base[0] == 'S' && base[3:] == script {
					return true
				}
			}
		}
	}
	return false
}

// sshd is the ports on which sshd listens by sshd_config(5), if it starts.
func (t *Tree) sshd() (ports []string) {
	if t.Read("etc/ssh/sshd_config") == nil {
		return nil
	}
	if u, ok := t.systemd(); ok {
		there := false
		for _, name := range []string{"ssh", "sshd"} {
			there = there || u.There(name+".service")
			if t.starts(name) {
				there = false
				break
			}
		}
		if there { // and nothing starts it; a socket of its own is another matter
			return nil
		}
	}
	c := sshConfig{tree: t}
	c.read("etc/ssh/sshd_config", 0)
	if len(c.ports) == 0 {
		c.ports = []string{"22"}
	}
	if len(c.addresses) == 0 {
		return c.ports
	}
	for _, a := range c.addresses {
		if port := portOf(a); port != "" {
			ports = append(ports, port)
		} else {
			ports = append(ports, c.ports...)
		}
	}
	return ports
}

// portOf is the port of HOST:PORT or [ADDRESS]:PORT; "" for an address without one.
func portOf(address string) string {
	at := strings.LastIndex(address, ":")
	if at < 0 || strings.Count(address, ":") > 1 && !strings.HasPrefix(address, "[") || strings.HasSuffix(address, "]") {
		return ""
	}
	return address[at+1:]
}

// sshConfig is what sshd_config(5) says of where sshd listens.
type sshConfig struct {
	tree             *Tree
	ports, addresses []string
}

func (c *sshConfig) read(file string, depth int) {
	const mostDepth = 16 // sshd(8)
	if depth > mostDepth {
		return
	}
	for line := range strings.Lines(string(c.tree.Read(file))) {
		line = strings.TrimSpace(line)
		at := strings.IndexAny(line, " \t=")
		if line == "" || line[0] == '#' || at < 0 {
			continue
		}
		key, value := strings.ToLower(line[:at]), strings.TrimLeft(line[at:], " \t=")
		if before, _, ok := strings.Cut(value, " #"); ok {
			value = before
		}
		value = strings.Trim(strings.TrimSpace(value), `"`)
		switch key {
		case "match": // what follows is of some connections only
			return
		case "port":
			c.ports = append(c.ports, value)
		case "listenaddress":
			c.addresses = append(c.addresses, strings.Fields(value + " ")[0])
		case "include":
			for _, pattern := range strings.Fields(value) {
				pattern = strings.Trim(pattern, `"`)
				if !path.IsAbs(pattern) {
					pattern = path.Join("/etc/ssh", pattern)
				}
				pattern = strings.TrimPrefix(pattern, "/")
				names := c.tree.Names(path.Dir(pattern))
				slices.Sort(names)
				for _, name := range names {
					if ok, err := path.Match(pattern, name); ok && err == nil {
						c.read(name, depth+1)
					}
				}
			}
		}
	}
}

// sockets is the ports on which sockets of systemd listen that start (systemd.socket(5)).
func (t *Tree) sockets(protocol string) (ports []string) {
	u, ok := t.systemd()
	if !ok {
		return nil
	}
	key := map[string]string{"tcp": "ListenStream", "udp": "ListenDatagram"}[protocol]
	for _, name := range u.All(".socket") {
		var list []string
		for _, file := range u.Files(name) {
			for line := range strings.Lines(string(t.Read(file))) {
				k, value, ok := strings.Cut(strings.TrimSpace(line), "=")
				if !ok || strings.TrimSpace(k) != key {
					continue
				}
				if value = strings.TrimSpace(value); value == "" {
					list = nil
					continue
				}
				port := value
				if strings.Contains(value, ":") {
					port = portOf(value)
				}
				if _, err := strconv.Atoi(port); err == nil {
					list = append(list, port)
				}
			}
		}
		ports = append(ports, list...)
	}
	return ports
}
