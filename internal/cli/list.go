package cli

import (
	"context"
	"flag"
	"slices"
	"strings"

	"zygos/internal/app"
	"zygos/internal/catalog"
	"zygos/internal/definition"
	"zygos/internal/words"
)

var cmdList = &command{
	name: "list", group: "keep", args: "[IMAGE]", most: 1,
	summary: "list versions: tags, age, size, regions, state",
	text: `Lists versions of all images, or of one, newest first; all, or those that every flag given
holds for. Of builds begun since an image's newest version, those that run and the last one that
failed or was stopped stand before it. Shows 50 at once; --page 2 shows the next ones.`,
	example: "zygos list\nzygos list turbine-link --json\nzygos list --where owner=controls --tag stable\nzygos list --region kelp-bay " +
		"--only recalled\nzygos list --sort size --most 10",
	flags: func() flags { return &listFlags{} },
	run:   opened(app.Lenient, runList),
}

// listFlags are those of list.
type listFlags struct {
	where  wordsFlag
	tag    string
	base   string
	region string
	only   string
	age    string
	sort   string
	most   int
	page   int
	all    bool
}

func (f *listFlags) declare(fs *flag.FlagSet) {
	fs.Var(&f.where, "where", "versions with the label `KEY=VALUE`; may be repeated")
	fs.StringVar(&f.tag, "tag", "", "versions that `TAG` points at")
	fs.StringVar(&f.base, "base", "", "versions built on `NAME` or NAME@VERSION")
	fs.StringVar(&f.region, "region", "", "versions placed in `REGION`")
	fs.StringVar(&f.only, "only", "", "usable, recalled or planned (to be recalled): versions in that `STATE`")
	fs.StringVar(&f.age, "age", "", "versions younger than `AGE`, for instance 7d")
	fs.StringVar(&f.sort, "sort", "", "by `ORDER`: age, the youngest first, or size, the largest first; default by image and version")
	fs.IntVar(&f.most, "most", 0, "at most `N` versions; default 50, or all with --json")
	fs.IntVar(&f.page, "page", 1, "the `N`th so many")
	fs.BoolVar(&f.all, "all", false, "all versions")
}

const fewVersions = 50 // that list shows without --all

// query reads what the flags ask for.
func (in *invocation) query() (q catalog.Query, err error) {
	f := in.flags.(*listFlags)
	q = catalog.Query{Tag: f.tag, Base: f.base, Region: f.region, State: f.only, Labels: map[string]string{}, Sort: f.sort, Most: f.most}
	if len(in.args) > 0 {
		q.Image = in.args[0]
	}
	if q.Most == 0 && !f.all && (!in.json || f.page > 1) {
		q.Most = fewVersions
	}
	for _, text := range f.where {
		key, value, ok := strings.Cut(text, "=")
		if !ok {
			return q, wrongUse("--where %q has no '='; write --where KEY=VALUE", text)
		}
		q.Labels[key] = value
	}
	if f.age != "" {
		youngest, err := definition.ParseAge(f.age)
		if err != nil {
			return q, wrongUse("--age is %q; write for instance 12h or 7d", f.age)
		}
		q.Youngest = youngest
	}
	if !slices.Contains([]string{"", "usable", "recalled", "planned"}, q.State) {
		return q, wrongUse("--only is %q; choose usable, recalled or planned", q.State)
	}
	if !slices.Contains([]string{"", "age", "size"}, q.Sort) {
		return q, wrongUse("--sort is %q; choose age or size", q.Sort)
	}
	if f.page < 1 {
		return q, wrongUse("--page is %d; pages count from 1", f.page)
	}
	if f.most < 0 {
		return q, wrongUse("--most is %d; give 1 or more, or --all", f.most)
	}
	if f.all && (f.page > 1 || f.most > 0) {
		return q, wrongUse("--all lists every version; leave out --page and --most")
	}
	q.Skip = (f.page - 1) * q.Most
	return q, nil
}

func runList(ctx context.Context, in *invocation, a *app.Session) error {
	f := in.flags.(*listFlags)
	q, err := in.query()
	if err != nil {
		return err
	}
	l, err := a.List(ctx, q)
	if err != nil {
		return err
	}
	if in.json {
		return in.writeJSON(append([]catalog.Version{}, l.Versions...))
	}
	if len(l.Versions)+len(l.Builds) == 0 {
		return in.nothing(ctx, a, q)
	}
	pg := in.page()
	words.Versions(pg, l.Versions, l.Builds)
	if err := in.show(pg); err != nil {
		return err
	}
	if len(l.Builds) > 0 {
		in.next("zygos log " + l.Builds[0].Image)
	} else {
		in.next("zygos show " + l.Versions[0].Ref())
	}
	if l.More {
		in.note("there are more; --page %d shows the next ones, --all all", f.page+1)
	}
	return nil
}

// nothing says why a list is empty.
func (in *invocation) nothing(ctx context.Context, a *app.Session, q catalog.Query) error {
	f := in.flags.(*listFlags)
	fit, known, err := a.Why(ctx, q)
	switch {
	case err != nil:
		return err
	case fit > 0:
		return wrongUse("--page %d is past the last of %s", f.page, counted(fit, "version"))
	case known > 0:
		in.note("none of %s fits; 'zygos list' shows all", counted(known, "version"))
		return nil
	}
	in.note("no versions yet")
	in.next("zygos build IMAGE")
	return nil
}
