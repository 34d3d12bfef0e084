package words

import (
	"fmt"
	"regexp"
	"strings"
	"sync"

	"zygos/internal/build"
	"zygos/internal/definition"
	"zygos/internal/record"
)

// Failure shows where a build broke, what was printed last, and how to look further.
func Failure(pg *Page, f *record.Failure) {
	at := f.Step
	if f.Line > 0 && f.Source != "" {
		at = fmt.Sprintf("%s:%d", f.Source, f.Line)
	} else if f.Line > 0 {
		at = fmt.Sprintf("%s, line %d", f.Step, f.Line)
	}
	pg.Print("\n%s", pg.Paint(Red, "Build failed: "+Brief(f.How())))
	pg.Print("  image  %s", imageOf(f.Image, f.Variant))
	if f.Stage != record.Checks {
		pg.Print("  stage  %s\n  step   %s", f.Stage, at)
	}
	if len(f.Tail) > 0 {
		heading := "its last lines"
		if f.Stage == record.Checks {
			heading = "what they found"
		}
		pg.Print("  %s:", heading)
		for _, line := range f.Tail {
			pg.Print("    %s %s", pg.Paint(Faint, "|"), line)
		}
	}
	pg.Print("Nothing was registered; finished stages are kept.")
	if f.Stage == record.Checks {
		pg.Print("  next: zygos log %s   shows what each check said", f.Build)
	} else {
		pg.Print("  next: zygos log %s --stage %s   shows all of its output", f.Build, f.Stage)
	}
	if f.Kept && f.Disk {
		pg.Print("        zygos try %s --boot   start the disk and see its console", f.Build)
	}
	if f.Kept && f.Stage != "boot" {
		pg.Print("        zygos enter %s   a shell where it failed", f.Build)
	}
}

// Problems shows what is wrong in definitions; where ends the sentence.
func Problems(pg *Page, problems definition.Problems, where string) {
	for _, p := range problems {
		pg.Print("%s: %s; %s", pg.Paint(Bold, p.Pos.String()), Brief(p.What), Brief(p.Do))
	}
	pg.Print("zygos: %s in %s", counted(len(problems), "problem"), where)
}

// imageOf is an image with its variant, in words.
func imageOf(image, variant string) string {
	if variant != "" {
		return image + ", variant " + variant
	}
	return image
}

const longestWord = 240 // bytes of a path that a person reads

var longWord = sync.OnceValue(func() *regexp.Regexp { return regexp.MustCompile(fmt.Sprintf(`\S{%d,}`, longestWord)) })

// Leak says that a secret lies in what was to be captured.
func Leak(pg *Page, leak *build.LeakError) {
	pg.Print("\n%s\n  image   %s\n  secret  %s\n  place   %s, %s\nNothing was registered; other finished stages are kept. To mend it, %s.",
		pg.Paint(Red, "Build failed: a secret lies in the image"), imageOf(leak.Image, leak.Variant), leak.Secret, Brief(leak.Where), leak.By(),
		leak.Do())
}

// Brief shortens very long words, such as a path of thousands of bytes, in the middle.
func Brief(text string) string {
	return longWord().ReplaceAllStringFunc(text, func(word string) string {
		return fmt.Sprintf("%s…(%d bytes)…%s", strings.ToValidUTF8(word[:longestWord/2], ""), len(word),
			strings.ToValidUTF8(word[len(word)-longestWord/4:], ""))
	})
}
