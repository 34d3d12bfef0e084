package record

import (
	"encoding/json"
	"time"

	"zygos/internal/catalog"
	"zygos/internal/plan"
)

// Checks stands where a failure names its stage, if checks failed.
const Checks = "checks"

// Repeated is how a version was judged by building it again.
const Repeated = "repeat"

// JudgementSchema names the document of what checks said.
const JudgementSchema = "zygos.judgement/1"

// Judgement is what checks said of a version.
type Judgement struct {
	Schema  string        `json:"schema"`
	Image   string        `json:"image"`
	Version string        `json:"version"`
	Build   string        `json:"build"`
	At      string        `json:"at"`
	Who     string        `json:"who"`
	Host    string        `json:"host"`
	How     string        `json:"how"`
	Results []CheckResult `json:"results"`
}

// NewJudgement is what j.Results, which j.Who got on j.Host as j.How says, come to at some time by the catalog's clock.
func NewJudgement(v *catalog.Version, j Judgement, at time.Time) (*catalog.Judgement, error) {
	now, counts := at.UTC(), Count(j.Results)
	j.Schema, j.Image, j.Version, j.Build, j.At = JudgementSchema, v.Image, v.Version, v.Build, now.Format(time.RFC3339)
	text, err := json.Marshal(j)
	return &catalog.Judgement{Image: v.Image, Version: v.Version, At: now, Who: j.Who, Host: j.Host, How: j.How, Passed: counts.Passed,
		Failed: counts.Failed, Warned: counts.Warned, Skipped: counts.Skipped, Digest: "sha256:" + plan.Digest(text), Document: string(text)}, err
}
