//go:build foreign

package reading_test

import ("testing";"os";"fmt";"path/filepath";"strings")

func TestShow(t *testing.T) {
	for _, name := range strings.Fields(os.Getenv("SHOW")) {
		image := filepath.Join(t.TempDir(), "fs")
		p, _ := filepath.Glob("/tmp/e2/*/tests/"+name+"/image.gz")
		sh(t, ".", `gzip -dc "$1" > "$2"`, p[0], image)
		got, err := ours(image)
		fmt.Println("==", name, err, len(got))
		for i, l := range got { if i < 6 { fmt.Printf("   %.120q\n", l) } }
		e, _ := os.ReadFile(filepath.Dir(p[0])+"/expect.1")
		n := 0
		for l := range strings.Lines(string(e)) { if n < 9 && !strings.HasPrefix(l, "Pass") && strings.TrimSpace(l) != "" { n++; fmt.Printf("      %.110s\n", strings.TrimSpace(l)) } }
	}
}
