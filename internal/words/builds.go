package words

import (
	"fmt"
	"time"

	"zygos/internal/catalog"
	"zygos/internal/record"
)

// Builds lists builds.
func Builds(pg *Page, list []catalog.Build) {
	var rows [][]string
	for _, b := range list {
		took := "-"
		if !b.Ended.IsZero() {
			took = human(b.Ended.Sub(b.Started))
		} else if b.State == catalog.Running {
			took = human(time.Since(b.Started))
		}
		rows = append(rows, []string{b.ID, b.Image, b.Version, b.State, took, when(b.Started), b.Who, dash(cut(b.Why, 60))})
	}
	pg.Columns([]string{"BUILD", "IMAGE", "VERSION", "STATE", "TOOK", "STARTED", "WHO", "WHY"}, rows)
}

// Steps lists the steps of a build that ended, as record.StepDone events.
func Steps(pg *Page, steps []record.Event) {
	var rows [][]string
	for _, e := range steps {
		done, state := e.What.(record.StepDone), "ok"
		if done.Failed != "" {
			state = cut(done.Failed, 60)
		}
		stage, step := e.Place()
		if e.Variant != "" {
			stage = e.Variant + " " + stage
		}
		rows = append(rows, []string{stage, step, short(done.Digest), human(done.Took), fmt.Sprint(done.Lines), state})
	}
	if len(rows) == 0 {
		pg.Note("no step ran: every stage was reused")
		return
	}
	pg.Columns([]string{"STAGE", "STEP", "INPUT", "TOOK", "LINES", "ENDED"}, rows)
}
