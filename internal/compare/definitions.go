package compare

import (
	"fmt"
	"os"
	"slices"

	udiff "github.com/aymanbagabas/go-udiff"

	"zygos/internal/catalog"
	"zygos/internal/plan"
	"zygos/internal/record"
	"zygos/internal/session"
)

// Definitions is what differs between a definition and the one that a version was built from.
type Definitions struct {
	Image   string   `json:"image"`
	Against string   `json:"against"`
	Changes []string `json:"changes"` // of base and inputs, in words
	Files   []Source `json:"files"`
}

// Source is a file that went into one of two builds, or into both with different content.
type Source struct {
	Path  string `json:"path"`
	State string `json:"state"` // added, removed, changed
	Diff  string `json:"diff,omitempty"`
}

// DefinitionsOf compares a plan with the one that a version was built by.
func DefinitionsOf(s *session.Session, v *catalog.Version, now *plan.Plan) (*Definitions, error) {
	record, err := record.Read(s.Dir, v.Build)
	if err != nil {
		return nil, err
	}
	if record.Plan.Sources == nil {
		return nil, fmt.Errorf("%s was built by an earlier Zygos, which did not keep its definition", v.Ref())
	}
	d := &Definitions{Image: now.Image, Against: v.Ref(), Changes: plan.Changed(record.Plan, now), Files: []Source{}}
	for _, c := range plan.ChangedSources(record.Plan, now) {
		f := Source{Path: c.Path, State: c.State}
		was, is := s.Text(c.Was), s.Text(c.Now)
		if c.Now != "" && is == nil {
			is, _ = os.ReadFile(s.Path(c.Path)) // without it there is no diff
		}
		if (c.Was == "" || was != nil) && (c.Now == "" || is != nil) && !slices.Contains(is, 0) {
			f.Diff = udiff.Unified(v.Ref()+" "+c.Path, "now "+c.Path, string(was), string(is))
		}
		d.Files = append(d.Files, f)
	}
	return d, nil
}
