package standin

import (
	"io"
	mathrand "math/rand/v2"
	"net/http"
	"slices"
	"strings"
	"sync"
	"time"
)

// Kinds are the kinds of faults.
var Kinds = []string{
	"refuse",   // the connection is closed without an answer
	"drop",     // it is closed in the middle of what is sent
	"silence",  // what is asked for is done, and the connection closed without an answer
	"slow",     // the answer takes a second more
	"error",    // 503
	"throttle", // 429, with Retry-After
	"corrupt",  // a byte of a part changes after it was checked
	"expire",   // all tokens end
	"lose",     // an import fails
	"quota",    // 507
}

// Plan says which faults strike.
type Plan struct {
	// Next strike once each, in order, on uploads of parts, "lose" on an import.
	Next []string `json:"next,omitempty"`
	// Share of what may go wrong does, by one of Kinds that fits, chosen by chance from Seed, up to Most.
	Share float64  `json:"share,omitempty"`
	Kinds []string `json:"kinds,omitempty"`
	Seed  uint64   `json:"seed,omitempty"`
	Most  int      `json:"most,omitempty"`
}

// Faults strike requests.
type Faults struct {
	mu     sync.Mutex
	plan   Plan
	chance *mathrand.Rand
	struck map[string]int
}

// Set makes a plan the one that holds from now on.
func (f *Faults) Set(p Plan) {
	f.mu.Lock()
	defer f.mu.Unlock()
	f.plan, f.chance = p, mathrand.New(mathrand.NewPCG(p.Seed, 1))
	if len(f.plan.Kinds) == 0 {
		f.plan.Kinds = Kinds
	}
}

// Struck is how often each kind struck.
func (f *Faults) Struck() map[string]int {
	f.mu.Lock()
	defer f.mu.Unlock()
	all := map[string]int{}
	for kind, n := range f.struck {
		all[kind] = n
	}
	return all
}

// take says whether a kind of fault strikes what is done.
func (f *Faults) take(kind, doing string) bool { return f.next(doing, kind) == kind }

// next is the fault that strikes what is done, of the kinds given; "" for none.
func (f *Faults) next(doing string, kinds ...string) string {
	f.mu.Lock()
	defer f.mu.Unlock()
	kind := ""
	switch {
	case len(f.plan.Next) > 0:
		if slices.Contains(kinds, f.plan.Next[0]) && (doing == "part" || doing == "import") {
			kind, f.plan.Next = f.plan.Next[0], f.plan.Next[1:]
		}
	case f.plan.Share > 0 && f.plan.Most > 0 && f.chance.Float64() < f.plan.Share:
		may := slices.DeleteFunc(slices.Clone(f.plan.Kinds), func(k string) bool { return !slices.Contains(kinds, k) })
		if len(may) > 0 {
			kind = may[f.chance.IntN(len(may))]
			f.plan.Most--
		}
	}
	if kind != "" {
		f.struck[kind]++
	}
	return kind
}

// doing is what a request does, in a word.
func doing(r *http.Request) string {
	if strings.Contains(r.URL.Path, "/parts/") {
		return "part"
	}
	return "else"
}

// strike lets a fault strike a request, or not.
func (f *Faults) strike(c *Cloud, w http.ResponseWriter, r *http.Request) error {
	switch f.next(doing(r), "refuse", "drop", "slow", "error", "throttle", "expire", "quota") {
	case "refuse":
		panic(http.ErrAbortHandler)
	case "drop":
		if r.Method == http.MethodGet { // half an answer
			w.Header().Set("Content-Length", "1000000")
			_, _ = w.Write([]byte("{"))
		} else {
			_, _ = io.CopyN(io.Discard, r.Body, r.ContentLength/2)
		}
		panic(http.ErrAbortHandler)
	case "slow":
		time.Sleep(time.Second)
	case "error":
		return refuse(http.StatusServiceUnavailable, "busy", "the site is busy")
	case "throttle":
		return refuse(http.StatusTooManyRequests, "throttled", "too many requests")
	case "expire":
		c.expire()
	case "quota":
		return refuse(http.StatusInsufficientStorage, "quota", "the quota is reached")
	}
	return nil
}

// spoil changes a byte, if such a fault strikes.
func (f *Faults) spoil(text []byte) {
	if len(text) > 0 && f.next("part", "corrupt") == "corrupt" {
		text[len(text)/2] ^= 1
	}
}

func (c *Cloud) faults(w http.ResponseWriter, _ *http.Request) error {
	reply(w, http.StatusOK, c.Faults.Struck())
	return nil
}

func (c *Cloud) setFaults(w http.ResponseWriter, r *http.Request) error {
	var p Plan
	if err := asked(r, &p, "no-plan"); err != nil {
		return err
	}
	for _, k := range slices.Concat(p.Next, p.Kinds) {
		if !slices.Contains(Kinds, k) {
			return refuse(http.StatusBadRequest, "no-plan", "there is no fault %q; there are %s", k, strings.Join(Kinds, ", "))
		}
	}
	c.Faults.Set(p)
	w.WriteHeader(http.StatusNoContent)
	return nil
}
