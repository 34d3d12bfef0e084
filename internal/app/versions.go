package app

import (
	"context"
	"errors"
	"slices"
	"strings"
	"time"

	"zygos/internal/catalog"
	"zygos/internal/compare"
	"zygos/internal/definition"
	"zygos/internal/family"
	"zygos/internal/plain"
	"zygos/internal/plan"
	"zygos/internal/publish"
	"zygos/internal/record"
	"zygos/internal/report"
	"zygos/internal/rules"
	"zygos/internal/state"
)

// VersionList is what List finds.
type VersionList struct {
	Versions []catalog.Version
	// Builds are those begun since an image's newest version that made none: of each image those that run,
	// and the last that does not. They are looked for where the query leaves out nothing.
	Builds []catalog.Build
	More   bool // there are more versions
}

// List lists versions.
func (a *Session) List(ctx context.Context, q catalog.Query) (l VersionList, err error) {
	if l.Versions, l.More, err = a.Catalog.List(ctx, q); err != nil {
		return l, err
	}
	if !q.Everything() || q.Sort != "" || q.Skip > 0 {
		return l, nil
	}
	all, err := a.Catalog.Unfinished(ctx, q.Image)
	ended := "" // image of which one that ended is listed
	for _, b := range all {
		if a.Settle(&b); b.State != catalog.Running {
			if b.Image == ended {
				continue
			}
			ended = b.Image
		}
		l.Builds = append(l.Builds, b)
	}
	return l, err
}

// Why says of a query that found nothing how many versions fit it on other pages, and how many there are
// of its image at all.
func (a *Session) Why(ctx context.Context, q catalog.Query) (fit, known int, err error) {
	if fit, err = a.Catalog.Count(ctx, q); err != nil || fit > 0 {
		return fit, 0, err
	}
	if known, err = a.Catalog.Count(ctx, catalog.Query{Image: q.Image}); err != nil || known > 0 || q.Image == "" {
		return 0, known, err
	}
	_, err = a.Image(q.Image)
	return 0, 0, err
}

// Account is all that is known of a version.
type Account struct {
	*catalog.Version
	Made       *catalog.Build        `json:"made"`
	Children   []string              `json:"children"`
	Placements []catalog.Placement   `json:"placements"`
	Underway   []catalog.Underway    `json:"underway"` // asked for, and not placed
	Repeated   string                `json:"repeated,omitempty"`
	Found      *plan.Origin          `json:"found,omitempty"` // how the base was, if the record is kept here
	Moves      []catalog.Move        `json:"tag_moves"`
	Recalls    []catalog.EndedRecall `json:"ended_recalls"`
}

// Show gathers what is known of a version.
func (a *Session) Show(ctx context.Context, ref string) (*Account, error) {
	v, err := a.ResolveAny(ctx, ref)
	if err != nil {
		return nil, err
	}
	t := &Account{Version: v, Children: []string{}}
	if t.Made, err = a.Catalog.Build(ctx, v.Build); err != nil {
		return nil, err
	}
	if r, err := record.Read(a.Dir, v.Build); err == nil && r.Plan != nil {
		t.Found = r.Plan.Base.Found
	}
	relatives, err := a.Catalog.Family(ctx, v.Image, v.Version, 1)
	if err != nil {
		return nil, err
	}
	for _, r := range relatives {
		if r.Depth == 1 {
			t.Children = append(t.Children, r.Ref())
		}
	}
	placements, err := a.Catalog.Placements(ctx, v.Image, v.Version, "")
	if err != nil {
		return nil, err
	}
	moves, err := a.Catalog.Moves(ctx, v.Image)
	if err != nil {
		return nil, err
	}
	underway, err := a.Catalog.Underways(ctx, v.Image, v.Version, "")
	if err != nil {
		return nil, err
	}
	t.Underway = append([]catalog.Underway{}, underway...)
	if t.Repeated, err = a.Repeats(ctx, v); err != nil {
		return nil, err
	}
	ended, err := a.Catalog.EndedRecalls(ctx, v.Image, v.Version)
	t.Placements, t.Recalls = append([]catalog.Placement{}, placements...), append([]catalog.EndedRecall{}, ended...)
	t.Moves = slices.DeleteFunc(append([]catalog.Move{}, moves...),
		func(m catalog.Move) bool { return m.Version != v.Version && m.Was != v.Version })
	return t, err
}

// TagRequest moves tags of one or several images.
type TagRequest struct {
	Refs         []string // versions; with Back or Remove, images
	Tags         []string
	Back, Remove bool
	Why          string
}

// Tag moves tags, all or none, and tells the regions. If these could not be told, the moves come with the
// error.
func (a *Session) Tag(ctx context.Context, r TagRequest) (moves []catalog.Move, err error) {
	for _, tag := range r.Tags {
		if reason := definition.CheckTag(tag); reason != "" {
			return nil, state.Ask("%s", reason)
		}
	}
	if unfit := plain.Unshown(r.Why); unfit != "" {
		return nil, state.Ask("the reason cannot be kept: %s; write another one", unfit)
	}
	if r.Back && r.Remove {
		return nil, state.Ask("--back and --remove together make no sense; choose one")
	}
	for _, text := range r.Refs {
		list, err := a.movesOf(ctx, r, text)
		if err != nil {
			return nil, err
		}
		moves = append(moves, list...)
	}
	if err := a.Catalog.MoveTags(ctx, moves, rules.Mover(a.Session, a.Catalog.Now)); err != nil {
		return nil, err
	}
	var images []string
	for _, m := range moves {
		images = append(images, m.Image)
	}
	return moves, a.tell(ctx, images)
}

// movesOf plans the moves of one image's tags.
func (a *Session) movesOf(ctx context.Context, r TagRequest, text string) (list []catalog.Move, err error) {
	ref, err := definition.ParseRef(text)
	if err != nil {
		return nil, state.Ask("%s", err)
	}
	var v *catalog.Version
	if !r.Back && !r.Remove {
		if v, err = a.Resolve(ctx, text); err != nil {
			return nil, err
		}
	}
	history, err := a.Catalog.Moves(ctx, ref.Image)
	if err != nil {
		return nil, err
	}
	for _, tag := range r.Tags {
		m := catalog.Move{Image: ref.Image, Tag: tag, Who: a.Who, Why: r.Why, At: a.Catalog.Now()}
		i := slices.IndexFunc(history, func(h catalog.Move) bool { return h.Tag == tag })
		to := v
		switch {
		case (r.Back || r.Remove) && (i < 0 || history[i].Version == "" && r.Remove):
			return nil, &catalog.NotFoundError{What: ref.Image + " has no tag \"" + tag + "\"", Do: "'zygos tag " + ref.Image + "' shows its tags"}
		case r.Remove:
			list = append(list, m)
			continue
		case r.Back && history[i].Was == "":
			return nil, &catalog.NotFoundError{What: ref.Image + "@" + tag + " pointed at nothing before", Do: "--remove takes it away"}
		case r.Back:
			if to, err = a.Resolve(ctx, ref.Image+"@"+history[i].Was); err != nil {
				return nil, err
			}
		}
		m.Version = to.Version
		list = append(list, m)
	}
	return list, nil
}

// tell writes the indexes of the regions that hold versions of images.
func (a *Session) tell(ctx context.Context, images []string) (failed error) {
	slices.Sort(images)
	for _, image := range slices.Compact(images) {
		if err := publish.Refresh(ctx, a.Session, image); err != nil {
			failed = errors.Join(failed, err)
		}
	}
	return failed
}

// TagMoves lists the moves of an image's tags, newest first.
func (a *Session) TagMoves(ctx context.Context, text string) (image string, moves []catalog.Move, err error) {
	ref, err := definition.ParseRef(text)
	if err != nil {
		return "", nil, state.Ask("%s", err)
	}
	moves, err = a.Catalog.Moves(ctx, ref.Image)
	if err == nil && len(moves) == 0 {
		_, err = a.ResolveAny(ctx, ref.Image)
	}
	return ref.Image, moves, err
}

// RecallRequest withdraws a version.
type RecallRequest struct {
	Ref, Why    string
	Since       time.Time // zero for now
	Descendants bool
	Expect      []string // references that the caller was shown; nil for any
}

// sameRecall is for how long a recall in the same words is taken for a second try of the first.
const sameRecall = time.Hour

// Repeated finds the recall that a request repeats: by the same person, of the same image, for the same reason, less than an hour ago. A
// reference that moves, such as IMAGE, means another version by then. It is nil for none.
func (a *Session) Repeated(ctx context.Context, r RecallRequest) (*catalog.Recall, error) {
	ref, err := definition.ParseRef(r.Ref)
	if err != nil {
		return nil, state.Ask("%s", err)
	}
	version := ""
	if ref.IsVersion() {
		version = ref.Selector
	}
	found, err := a.Catalog.RecalledSince(ctx, catalog.Recall{Image: ref.Image, Version: version, Why: r.Why, Who: a.Who,
		Descendants: r.Descendants, At: a.Catalog.Now().Add(-sameRecall)})
	if err == nil && found != nil {
		err = a.tell(ctx, []string{found.Image}) // which the first try may not have come to
	}
	return found, err
}

// Touches says what a recall would touch.
func (a *Session) Touches(ctx context.Context, r RecallRequest) (*catalog.Version, []family.Touched, error) {
	if unfit := plain.Unshown(r.Why); unfit != "" {
		return nil, nil, state.Ask("the reason cannot be kept: %s; write another one", unfit)
	}
	v, err := a.Resolve(ctx, r.Ref)
	if err != nil {
		return nil, nil, err
	}
	list, err := family.Touches(ctx, a.Session, v, r.Descendants)
	return v, list, err
}

// ChangedError says that what a request would do is not what its caller was shown.
type ChangedError struct{ What, Do string }

func (e *ChangedError) Error() string { return e.What + "; " + e.Do }

// Recall withdraws a version, and tells the regions. It returns what it touches. If the regions could not be told, the recall comes with
// the error; if r.Expect is not what it touches, nothing is done and the error is a *ChangedError.
func (a *Session) Recall(ctx context.Context, r RecallRequest) (*catalog.Recall, []family.Touched, error) {
	v, touched, err := a.Touches(ctx, r)
	if err != nil {
		return nil, nil, err
	}
	var refs []string
	for _, t := range touched {
		refs = append(refs, t.Ref)
	}
	if r.Expect != nil && !slices.Equal(refs, r.Expect) {
		return nil, touched, &ChangedError{"the recall of " + v.Ref() + " would now touch " + strings.Join(refs, ", "),
			"nothing was done; run it again"}
	}
	now := a.Catalog.Now()
	recall := &catalog.Recall{Image: v.Image, Version: v.Version, Why: r.Why, Who: a.Who, At: now, Since: r.Since, Descendants: r.Descendants}
	if r.Since.IsZero() {
		recall.Since = now
	}
	if err := a.Catalog.Recall(ctx, *recall); err != nil {
		return nil, touched, err
	}
	if now, err := family.Touches(ctx, a.Session, v, r.Descendants); err == nil { // somebody may have published one just before
		touched = now
	}
	return recall, touched, a.tell(ctx, imagesOf(touched))
}

func imagesOf(list []family.Touched) (images []string) {
	for _, t := range list {
		image, _, _ := strings.Cut(t.Ref, "@")
		images = append(images, image)
	}
	return images
}

// Reinstate undoes the recall of a version, and returns what comes back.
func (a *Session) Reinstate(ctx context.Context, ref string) (*catalog.Version, []family.Touched, error) {
	v, err := a.ResolveAny(ctx, ref)
	if err != nil {
		return nil, nil, err
	}
	list, err := family.Touches(ctx, a.Session, v, true)
	if err != nil {
		return nil, nil, err
	}
	was, err := a.Catalog.Reinstate(ctx, v.Image, v.Version, a.Who, a.Catalog.Now())
	switch {
	case err != nil:
	case !was && v.Recall != nil:
		err = &catalog.NotFoundError{What: v.Ref() + " is recalled through " + v.Recall.Image + "@" + v.Recall.Version, Do: "reinstate that one"}
	case !was:
		err = &catalog.NotFoundError{What: v.Ref() + " is not recalled", Do: "'zygos list' shows what is"}
	default:
		err = a.tell(ctx, imagesOf(list))
	}
	return v, list, err
}

// Lineage lists a version's family, ancestors first, at most depth generations away; 0 for all.
func (a *Session) Lineage(ctx context.Context, ref string, depth int) (*catalog.Version, []family.Member, error) {
	v, err := a.ResolveAny(ctx, ref)
	if err != nil {
		return nil, nil, err
	}
	list, err := family.Lineage(ctx, a.Session, v, depth)
	return v, list, err
}

// Side is the tree that a reference or a build's id means, to be compared.
func (a *Session) Side(ctx context.Context, word, variant, stage string) (*compare.Side, error) {
	id := word
	if !plan.IsBuildID(word) {
		v, err := a.ResolveAny(ctx, word)
		if err != nil {
			return nil, err
		}
		id, word = v.Build, v.Ref()
	}
	return compare.SideOf(ctx, a.Session, id, word, variant, stage)
}

// Picture is a family as pages and pictures show it, with the version that was asked for.
func Picture(v *catalog.Version, list []family.Member) *report.Family {
	outside := list[0].BaseName + "@" + list[0].BaseVersion
	f := &report.Family{Title: v.Ref(), Made: time.Now(), Members: []report.Member{{Ref: outside}}}
	for i := range list {
		r := &list[i]
		m := report.Member{Ref: r.Ref(), On: r.BaseName + "@" + r.BaseVersion, Age: plain.Age(r.Created), Tags: r.Tags,
			State: plain.Text(r.State()), Here: r.Ref() == v.Ref(), Planned: r.Recall != nil && !r.Recall.InForce()}
		if r.Due != "" {
			m.Due = plain.Text("due: " + r.Due)
		}
		f.Members = append(f.Members, m)
	}
	return f
}
