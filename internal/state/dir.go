// Package state is a host's place for the work of an organisation, opened once by each process: where everything in its folder lies, who it
// is, which catalog it belongs to, and the locks, runs and slots by which processes and callers keep out of each other's way.
package state

import (
	"path/filepath"

	"zygos/internal/definition"
	"zygos/internal/digest"
)

// Dir is a state's folder. All paths in it are told here.
type Dir string

// In is a path in the folder.
func (d Dir) In(names ...string) string {
	return filepath.Join(append([]string{string(d)}, names...)...)
}

// Find lists what matches a pattern in the folder.
func (d Dir) Find(pattern string) []string {
	found, _ := filepath.Glob(filepath.Join(definition.EscapeGlob(string(d)), pattern)) // the pattern's form is known
	return found
}

// Build is a file of a build that is kept: its log, its record, what was brought out.
func (d Dir) Build(id, name string) string { return d.In("builds", id, name) }

// Builds is the folder of all builds.
func (d Dir) Builds() string { return d.In("builds") }

// Run is the folder for what is unfinished of a run; whoever holds RunLock in it is alive.
func (d Dir) Run(id string) string { return d.In("run", id) }

// RunLock is held by a run as long as it lives.
func (d Dir) RunLock(id string) string { return d.In("run", id, "lock") }

// Pins are the layers that a run needs.
func (d Dir) Pins(id string) string { return d.In("run", id, "pins") }

// Cancellation is the file in which somebody who stops a run says who that is.
func (d Dir) Cancellation(id string) string { return d.In("run", id, "cancel") }

// Lock is a lock file.
func (d Dir) Lock(name string) string { return d.In("locks", name) }

// Locks that all share.
const (
	UseLock   = ".use" // shared by every process that uses the state
	BeginLock = ".run" // taken while a run begins, and while what others may need is thrown away
)

// Layers is the folder of layers and snapshots.
func (d Dir) Layers() string { return d.In("layers") }

// Store is the folder of artifacts.
func (d Dir) Store() string { return d.In("store") }

// Text is a file as a build saw it.
func (d Dir) Text(text string) string { return d.In("texts", digest.Name(text)) }

// Traces is how the stages of a variant last ran.
func (d Dir) Traces(image, variant string) string {
	return d.In("traces", image, ShapeName(variant)+".json")
}

// Capture is what an artifact of a tree came to.
func (d Dir) Capture(key string) string { return d.In("captures", digest.Name(key)+".json") }

// Pieces is the list of what an artifact's last disk was packed to.
func (d Dir) Pieces(image, variant, name string) string {
	return d.In("pieces", image, ShapeName(variant), name)
}

// Failed is the tree that a build left when it failed.
func (d Dir) Failed(id, variant string) string { return d.In("failed", id, ShapeName(variant)) }

// Manifest is that of a version.
func (d Dir) Manifest(image, version string) string {
	return d.In("manifests", image, version+".json")
}

// Machines says whether virtual machines are fast on this host.
func (d Dir) Machines() string { return d.In("machines") }

// Tried is what somebody kept of an instance.
func (d Dir) Tried(name string) string { return d.In("tried", name) }

// Downloads is the folder of unfinished downloads.
func (d Dir) Downloads() string { return d.In("downloads") }

// RegionsLock is held by who writes indexes of regions.
func (d Dir) RegionsLock() string { return d.In("regions.lock") }

// IDs says which user and group ids the trees use.
func (d Dir) IDs() string { return d.In("ids.json") }

// CatalogFile is the state's own catalog.
func (d Dir) CatalogFile() string { return d.In("catalog.db") }

// CatalogID says which catalog the state belongs to.
func (d Dir) CatalogID() string { return d.In("catalog-id") }

// Standin is the folder of the simulated cloud.
func (d Dir) Standin() string { return d.In("standin") }

// SecretKey is the key with which this state marks secrets.
func (d Dir) SecretKey() string { return d.In("secret-key") }

// Feed is what the feed of a base listed.
func (d Dir) Feed(base string) string { return d.In("feeds", base+".json") }

// Record is the record of a build.
func (d Dir) Record(id string) string { return d.Build(id, recordFile) }

// PendingRecord is the record of a build whose version is not registered yet, as far as the folder knows.
func (d Dir) PendingRecord(id string) string { return d.Build(id, pendingFile) }

// Records are the records of all builds, also those that are pending.
func (d Dir) Records() []string {
	return append(d.Find("builds/*/"+recordFile), d.Find("builds/*/"+pendingFile)...)
}

const (
	recordFile  = "record.json"
	pendingFile = "record-pending.json"
)

func (d Dir) identity() string    { return d.In("state-id") }
func (d Dir) whereabouts() string { return d.In("state-place") }

// ShapeName is a variant as the name of a folder or file.
func ShapeName(variant string) string {
	if variant == "" {
		return "_" // no variant is named so
	}
	return variant
}
