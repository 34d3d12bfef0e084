package workspace

import (
	"os"
	"path/filepath"
	"strings"
)

// Commit is the commit that is checked out in the repository around the workspace, "" if there is
// none (Git, gitrepository-layout(5): HEAD, refs, packed-refs).
func (w *Workspace) Commit() string {
	for dir := w.Root; ; dir = filepath.Dir(dir) {
		repository := filepath.Join(dir, ".git")
		if text, err := os.ReadFile(repository); err == nil { // a file that says where it is
			repository = strings.TrimSpace(strings.TrimPrefix(string(text), "gitdir:"))
			if !filepath.IsAbs(repository) {
				repository = filepath.Join(dir, repository)
			}
		}
		if text, err := os.ReadFile(filepath.Join(repository, "HEAD")); err == nil {
			return resolveHead(repository, strings.TrimSpace(string(text)))
		}
		if filepath.Dir(dir) == dir {
			return ""
		}
	}
}

func resolveHead(repository, head string) string {
	name, ok := strings.CutPrefix(head, "ref: ")
	if !ok {
		return head
	}
	common := repository
	if text, err := os.ReadFile(filepath.Join(repository, "commondir")); err == nil {
		common = filepath.Join(repository, strings.TrimSpace(string(text)))
	}
	if text, err := os.ReadFile(filepath.Join(common, name)); err == nil {
		return strings.TrimSpace(string(text))
	}
	packed, _ := os.ReadFile(filepath.Join(common, "packed-refs")) // without it, the branch has no commit yet
	for line := range strings.Lines(string(packed)) {
		if hash, ref, ok := strings.Cut(strings.TrimSpace(line), " "); ok && ref == name {
			return hash
		}
	}
	return ""
}
