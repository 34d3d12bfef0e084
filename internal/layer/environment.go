package layer

import (
	"fmt"
	"regexp"
	"slices"
	"strings"
)

// EnvironmentFile is where a tree says what its programs find in their environment: logins of its clones read it (pam_env), and below a
// line of ours scripts find the same while it is built.
const EnvironmentFile = "etc/environment"

const (
	environmentMark = "# The environment of the container image, which scripts of builds see too."
	// MostEnvironment is how many bytes of the file are read.
	MostEnvironment = 256 << 10
)

// notTaken are variables that say where and for whom something runs.
var notTaken = []string{"HOME", "USER", "LOGNAME", "TERM", "HOSTNAME", "PWD"}

// Environment is a file that says, beside what it said before, these variables NAME=VALUE.
func Environment(before []byte, list []string) ([]byte, error) {
	text := string(before)
	if i := strings.Index(text, environmentMark); i >= 0 {
		text = text[:i]
	}
	if text != "" && !strings.HasSuffix(text, "\n") {
		text += "\n"
	}
	text += environmentMark + "\n"
	for _, v := range list {
		name, value, ok := strings.Cut(v, "=")
		switch {
		case !ok || !regexp.MustCompile(`^[A-Za-z_][A-Za-z0-9_]*$`).MatchString(name):
			return nil, fmt.Errorf("its environment has %q, which is no variable", v)
		case slices.Contains(notTaken, name) || strings.HasPrefix(name, "ZYGOS_"):
		case strings.ContainsAny(value, "\n\r\x00"):
			return nil, fmt.Errorf("its environment has a line break in %s, which %s cannot say", name, EnvironmentFile)
		default:
			text += name + "=\"" + value + "\"\n"
		}
	}
	if len(text) > MostEnvironment {
		return nil, fmt.Errorf("its environment has more than %d KiB", MostEnvironment>>10)
	}
	return []byte(text), nil
}

// Variables are those that such a file says below our line, NAME=VALUE; none for another one's.
func Variables(text []byte) (list []string) {
	_, ours, _ := strings.Cut(string(text), environmentMark+"\n")
	for line := range strings.Lines(ours) {
		if name, value, ok := strings.Cut(strings.TrimRight(line, "\n"), "="); ok && name != "" && name[0] != '#' {
			if n := len(value); n > 1 && value[0] == '"' && value[n-1] == '"' {
				value = value[1 : n-1]
			}
			list = append(list, name+"="+value)
		}
	}
	return list
}
