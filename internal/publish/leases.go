package publish

import (
	"context"

	"zygos/internal/definition"
	"zygos/internal/region/kinds"
	"zygos/internal/session"
	"zygos/internal/state"
)

// Lease takes the right to change what some regions hold of a version. Everything that places, removes or repairs does so under it, so
// that what two commands leave agrees with the catalog, on one machine or on several.
func Lease(ctx context.Context, s *session.Session, w state.Waiter, image, version string,
	regions []*definition.Region) (held context.Context, release func(), err error) {
	var names []string
	w.Doing += " " + image + "@" + version
	for _, r := range regions {
		names = append(names, "placements "+image+"@"+version+" "+r.Name)
		if kinds.Shares(r) { // what one version leaves, another may just come to need
			names = append(names, "contents "+image+" "+r.Name)
		}
	}
	return s.Lease(ctx, w, names...)
}
