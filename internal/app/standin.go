package app

import (
	"context"
	"net"
	"slices"
	"strings"

	"zygos/internal/region/cloud"
	"zygos/internal/standin"
	"zygos/internal/state"
)

// StandinRequest says how the simulated cloud is to be. Without address, sites or folder, it is the one that the regions of a
// workspace speak of.
type StandinRequest struct {
	Listen string // HOST:PORT
	standin.Settings
	Faults standin.Plan
}

// Standin runs the simulated cloud until its context ends; ready is told when it answers.
func Standin(ctx context.Context, at Where, r StandinRequest, ready func(address string, c *standin.Cloud)) error {
	if r.Listen == "" || r.Dir == "" || len(r.Sites) == 0 {
		if err := r.fromWorkspace(at); err != nil {
			return err
		}
	}
	for _, kind := range r.Faults.Next {
		if !slices.Contains(standin.Kinds, kind) {
			return state.Ask("there is no fault %q; there are %s", kind, strings.Join(standin.Kinds, ", "))
		}
	}
	on, err := (&net.ListenConfig{}).Listen(ctx, "tcp", r.Listen)
	if err != nil {
		return err
	}
	c, err := standin.Open(r.Settings)
	if err != nil {
		on.Close()
		return err
	}
	c.Faults.Set(r.Faults)
	ready(on.Addr().String(), c)
	return c.Serve(ctx, on)
}

// fromWorkspace takes what is not said from the regions of a workspace.
func (r *StandinRequest) fromWorkspace(at Where) error {
	w, err := Find(at)
	if err == nil {
		err = w.LoadOrganisation()
	}
	if err == nil && r.Dir == "" { // it may be the first that comes into the state
		r.Dir, err = state.Dir(w.State).Standin(), w.MakeState()
	}
	if err != nil {
		return err
	}
	var sites []string
	for _, region := range w.Org.Regions {
		s, ok := region.Settings.(cloud.Settings)
		if !ok || (r.Listen != "" && s.Address() != r.Listen) {
			continue
		}
		r.Listen = s.Address()
		sites = append(sites, s.Site)
	}
	if len(r.Sites) == 0 {
		r.Sites = sites
	}
	if len(r.Sites) == 0 {
		return state.Ask("no region of the workspace is of the kind cloud; add one, or say --listen, --dir and --site")
	}
	return nil
}
