package record

import (
	"time"

	"zygos/internal/artifact"
)

// What a publication does with an artifact.
const (
	Copies   = "copy"
	Changes  = "change"
	Captures = "capture"
	Verifies = "verify"
	Fails    = "fail"
)

// PlannedDelivery is what a publication would do with an artifact in a region.
type PlannedDelivery struct {
	ownNames
	Region  string `json:"region"`
	Variant string `json:"variant,omitempty"`
	Name    string `json:"name,omitempty"`
	Format  string `json:"format,omitempty"`
	Bytes   int64  `json:"bytes"`
	Does    string `json:"does"` // one of these words
	Why     string `json:"why"`
}

// Key tells the artifact from the others of its version.
func (p *PlannedDelivery) Key() artifact.Key {
	return artifact.Key{Variant: p.Variant, Name: p.Name, Format: p.Format}
}

// Delivery is what happens, or happened at last, to one artifact in one region.
type Delivery struct {
	ownNames
	Image    string        `json:"image"`
	Version  string        `json:"version"`
	Region   string        `json:"region"`
	Variant  string        `json:"variant,omitempty"`
	Name     string        `json:"name,omitempty"`
	Format   string        `json:"format,omitempty"`
	State    string        `json:"state"` // see package region, or Again
	ID       string        `json:"id,omitempty"`
	Location string        `json:"location,omitempty"`
	Copied   bool          `json:"copied"`
	By       string        `json:"verified_by,omitempty"` // one of the ways of package artifact
	Changed  []string      `json:"changed,omitempty"`     // of what the region keeps beside the bytes
	Bytes    int64         `json:"bytes,omitempty"`
	Took     time.Duration `json:"took_ns"`
	Pause    time.Duration `json:"pause_ns,omitempty"` // before the next try
	Error    string        `json:"error,omitempty"`
}

// Key tells the artifact from the others of its version.
func (p *Delivery) Key() artifact.Key {
	return artifact.Key{Variant: p.Variant, Name: p.Name, Format: p.Format}
}

// Removal is what became of an artifact that was to leave a region.
type Removal struct{ Delivery }

func (Delivery) Kind() string        { return "placement" }
func (PlannedDelivery) Kind() string { return "plan" }
func (Removal) Kind() string         { return "removed" }

// ownNames is in kinds of events that say themselves of which image and variant they are.
type ownNames struct{ nowhere }

func (ownNames) named() {}
