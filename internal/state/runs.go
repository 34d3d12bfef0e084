package state

import (
	"context"
	"crypto/rand"
	"encoding/json"
	"os"
	"time"

	"golang.org/x/sys/unix"

	"zygos/internal/catalog"
	"zygos/internal/plan"
	"zygos/internal/store"
)

// Alive says whether the process of a run still lives.
func (d Dir) Alive(id string) bool {
	lock, err := os.Open(d.RunLock(id))
	if err != nil {
		return false
	}
	defer lock.Close()
	return unix.Flock(int(lock.Fd()), unix.LOCK_SH|unix.LOCK_NB) != nil
}

// Lease is after how long a build of another state that was silent counts as dead.
const Lease = 5 * time.Minute

// Silent is what ended a build that nobody ended.
const Silent = "its process ended without a word"

// Runs says whether a build that is called running does: its process is alive in this state, whose
// identity is place, or another state that has it was heard of lately.
func (d Dir) Runs(place string, b *catalog.Build) bool {
	if b.Place == "" || b.Place == place {
		return d.Alive(b.ID)
	}
	return b.Quiet < Lease
}

// Settle makes a build that is called running and does not run an interrupted one.
func (d Dir) Settle(place string, b *catalog.Build) {
	if b.State == catalog.Running && !d.Runs(place, b) {
		b.State, b.Error = catalog.Interrupted, Silent
	}
}

// ReadTraces says how the stages of a variant last came to their ends, by name.
func (d Dir) ReadTraces(image, variant string) map[string]*plan.Trace {
	traces := map[string]*plan.Trace{}
	if text, err := os.ReadFile(d.Traces(image, variant)); err == nil {
		_ = json.Unmarshal(text, &traces) // what cannot be read makes a reason less exact
	}
	return traces
}

// ReadText is a file that an earlier build kept, nil if it was not, or not whole: texts are not made safe
// one by one, a power cut may leave one empty.
func (d Dir) ReadText(digest string) []byte {
	text, err := os.ReadFile(d.Text(digest))
	if err != nil || plan.Digest(text) != digest {
		return nil
	}
	return text
}

// SecretKey is the key with which secrets are marked. It is drawn when it is first needed: this state's or, if shared, that of all
// states of the catalog.
func (s *State) SecretKey(ctx context.Context) ([]byte, error) {
	own := func() (string, error) {
		key, err := store.First(s.Dir.SecretKey(), []byte(rand.Text()))
		return string(key), err
	}
	if s.named.URL == "" {
		key, err := own()
		return []byte(key), err
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.key == "" {
		var err error
		if s.key, err = s.Catalog.SecretKey(ctx, own); err != nil {
			return nil, err
		}
	}
	return []byte(s.key), nil
}
