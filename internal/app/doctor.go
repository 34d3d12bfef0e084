package app

import (
	"context"
	"errors"
	"fmt"
	"os"
	"time"

	"zygos/internal/catalog"
	"zygos/internal/host"
	"zygos/internal/machine"
	"zygos/internal/plain"
	"zygos/internal/state"
	"zygos/internal/sweep"
	"zygos/internal/vm"
	"zygos/internal/workspace"
)

// Examine says what this host can do. elsewhere is a folder to try things in where there is no workspace.
func Examine(ctx context.Context, at Where, elsewhere string) []host.Finding {
	ids, _ := machine.Inside()
	list := []host.Finding{host.Kernel(), host.IDs(ids), host.Limits()}
	dir, known := elsewhere, "" // where nothing is remembered, it is tried each time
	if w, err := Find(at); err == nil {
		_ = w.Load() // wrong definitions are lint's matter
		dir, known = w.State, state.Dir(w.State).Machines()
		list = append(list, measure(w))
		if err := w.MakeState(); err != nil {
			return append(list, host.Finding{What: "state", State: "missing", Text: err.Error(),
				Do: "make the folder writable, or move it with --state DIR"})
		}
		if f, err := os.CreateTemp(dir, ".new-"); err == nil {
			_ = errors.Join(f.Close(), os.Remove(f.Name()))
		} else { // what the host can do is tried where something can be written
			list = append(list, host.Finding{What: "writing", State: "limited", Text: "the state " + w.State + " can only be read: looking works",
				Do: "move it with --state DIR, or run zygos where it can be written"})
			dir, known = elsewhere, ""
		}
		list = append(list, examineCatalog(ctx, at, w))
	}
	return append(list, host.Disk(dir), host.Sandbox(ctx, ids, dir), machines(ctx, known))
}

// machines tells whether disks can be started here, and how fast.
func machines(ctx context.Context, known string) host.Finding {
	f := host.Finding{What: "machines", State: "ok"}
	h, err := vm.Find(ctx, known)
	var missing *vm.MissingError
	switch {
	case errors.As(err, &missing):
		f.State, f.Text, f.Do = "limited", missing.What+": disks can be made, and not tried", missing.Do
	case err != nil:
		f.State, f.Text = "limited", err.Error()
	case h.Fast:
		f.Text = "disks start under QEMU with the processor's help"
	default:
		f.State, f.Text = "ok", "disks start under QEMU in software, in a minute or so: the processor's help is not there or does not work"
	}
	return f
}

// measure tells what the state takes.
func measure(w *workspace.Workspace) host.Finding {
	at := state.Dir(w.State)
	s := sweep.Measure(at)
	f := host.Finding{What: "state", State: "ok", Text: fmt.Sprintf("%s: layers %s, artifacts %s, logs %s, failed builds %s, other %s",
		plain.MiB(s.Total()), plain.MiB(s.Layers), plain.MiB(s.Store), plain.MiB(s.Builds), plain.MiB(s.Failed), plain.MiB(s.Other))}
	if budget := w.Org.Budget; budget > 0 {
		f.Text += "; budget " + plain.MiB(budget)
		if s.Total() > budget {
			f.State, f.Do = "over", "the budget in zygos.toml is passed, since versions need what is kept: raise it, or remove old versions"
		}
	}
	return f
}

// examineCatalog opens the catalog and asks it something.
func examineCatalog(ctx context.Context, at Where, w *workspace.Workspace) host.Finding {
	f := host.Finding{What: "catalog", State: "ok", Text: "in the state"}
	began := time.Now()
	a, err := Open(ctx, at)
	if a != nil {
		defer a.Close()
	}
	if w.Org.Catalog.URL != "" {
		f.Text = catalog.Plain(w.Org.Catalog.URL)
	}
	if err == nil {
		_, err = a.Catalog.Running(ctx)
	}
	f.Text += ", answered in " + plain.Duration(time.Since(began))
	if err != nil {
		f.State, f.Text, f.Do = "missing", err.Error(), "look at [catalog] in zygos.toml"
	}
	return f
}
