package record

import (
	"encoding/json"
	"os"
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

// NewJudgement is what results come to at some time by the catalog's clock, as the catalog keeps it.
func NewJudgement(v *catalog.Version, at time.Time, who, how string, results []CheckResult) (*catalog.Judgement, error) {
	host, _ := os.Hostname() // a host without a name has none to record
	now, counts := at.UTC(), Count(results)
	text, err := json.Marshal(Judgement{Schema: JudgementSchema, Image: v.Image, Version: v.Version, Build: v.Build,
		At: now.Format(time.RFC3339), Who: who, Host: host, How: how, Results: results})
	return &catalog.Judgement{Image: v.Image, Version: v.Version, At: now, Who: who, Host: host, How: how, Passed: counts.Passed,
		Failed: counts.Failed, Warned: counts.Warned, Skipped: counts.Skipped, Digest: "sha256:" + plan.Digest(text), Document: string(text)}, err
}
