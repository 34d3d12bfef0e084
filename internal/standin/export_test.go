package standin

import "strings"

// Operations lists what can be asked for: METHOD PATH.
func Operations() (list []string) {
	for _, r := range routes {
		list = append(list, strings.ReplaceAll(r.pattern, "...}", "}"))
	}
	return list
}
