package judge

import (
	"context"
	"errors"
	"strconv"
	"strings"
	"time"

	"zygos/internal/layer"
	"zygos/internal/machine"
	"zygos/internal/plan"
	"zygos/internal/record"
	"zygos/internal/vm"
)

// Guest is a booted machine, as expectations see it.
type Guest struct {
	*machine.Guest
	ctx context.Context
	run Run
}

// Booted judges by checks in one booted machine, in their order. Those that could not be judged, since it did not come up or went
// away, fail and say so.
func (b *Bench) Booted(ctx context.Context, checks []plan.Check, start func(context.Context) (*vm.Running, error),
	each func(record.CheckResult)) (list []record.CheckResult, err error) {
	if len(checks) == 0 {
		return nil, nil
	}
	at := place{tree: &Tree{Files: layer.Files{Store: b.Ground.Store, Layers: b.Ground.Layers, Tree: b.Ground.Tree}}}
	lost, console := "", []string(nil) // why no more can be judged, and what was heard last
	guest, err := start(ctx)
	var down *vm.NotUpError
	switch {
	case errors.As(err, &down):
		lost, console = down.Error(), down.Console
	case err != nil:
		return nil, err
	default:
		defer guest.Stop()
		at.run, at.guest = guest.Run, guest.Guest
	}
	for i := range checks {
		began := time.Now()
		var r record.CheckResult
		if lost == "" {
			var gone *machine.GoneError
			if r, err = b.one(ctx, at, &checks[i]); errors.As(err, &gone) {
				lost = gone.Error() + " while check " + checks[i].Name + " ran"
				r.State, r.Why = record.Failed, gone.Error()+" while it ran"
			} else if err != nil {
				return nil, err
			}
		} else {
			r = record.CheckResult{Check: checks[i].Name, Variant: b.Variant, Shared: checks[i].Shared, Booted: true, State: record.Failed,
				Why: "not judged: " + b.Text(lost), Output: console}
			console = nil
		}
		if r.State == record.Failed && checks[i].Warn {
			r.State = record.Warned
		}
		r.Took = time.Since(began)
		list = append(list, r)
		each(r)
	}
	return list, nil
}

// listening lists the ports of a table of sockets (proc_pid_net(5), /proc/net/tcp) that something listens on.
func listening(protocol, table string) (ports []string) {
	state := map[string]string{"tcp": "0A", "udp": "07"}[protocol]
	for line := range strings.Lines(table) {
		f := strings.Fields(line)
		if len(f) < 4 || f[3] != state {
			continue
		}
		_, port, _ := strings.Cut(f[1], ":")
		if n, err := strconv.ParseUint(port, 16, 16); err == nil {
			ports = append(ports, strconv.FormatUint(n, 10))
		}
	}
	return ports
}
