package build

import (
	"context"
	"fmt"
	"runtime"
	"slices"
	"sync/atomic"

	"golang.org/x/sync/errgroup"

	"zygos/internal/catalog"
	"zygos/internal/layer"
	"zygos/internal/plain"
	"zygos/internal/record"
)

// LeakError says that a secret lies in the tree that would be captured.
type LeakError struct {
	Image, Variant string
	Stage          string // that wrote it, "" for the base
	Secret, Where  string // name, and place in words
	Kept           bool   // the layer that holds it is kept: a version consists of it, or it could not be removed
}

func (e *LeakError) Error() string {
	return fmt.Sprintf("the secret %s is %s, %s; %s", e.Secret, e.Where, e.By(), e.Do())
}

// By says in words who wrote it.
func (e *LeakError) By() string {
	if e.Stage == "" {
		return "part of the base"
	}
	return "written by stage " + e.Stage
}

// Do says what to do.
func (e *LeakError) Do() string {
	kept := ""
	if e.Kept {
		kept = "; an earlier version holds it too, recall that one"
	}
	return "let the script remove it, or read the secret from /run/zygos/secrets, which never becomes part of an image" + kept
}

// searchSecrets looks for every secret in the tree that will be captured: names, link targets,
// attributes and contents, also of compressed files and archives.
func (b *branch) searchSecrets(ctx context.Context) error {
	if b.secrets == nil {
		return nil
	}
	tree, err := b.merged()
	if err != nil {
		return err
	}
	nodes := tree.Nodes()
	tell := b.progress("search for secrets", nodes)
	var next atomic.Int64
	all := newUnpacking()
	type leak struct {
		name, where string
		node        *layer.Node
	}
	var found atomic.Pointer[leak]
	group, within := errgroup.WithContext(ctx)
	for range runtime.NumCPU() {
		group.Go(func() error {
			s := newSearcher(within, b.secrets, all)
			for {
				i := int(next.Add(1)) - 1
				if i >= len(nodes) || within.Err() != nil {
					return within.Err()
				}
				name, where, err := s.node(nodes[i], b.content(nodes[i]))
				if err != nil {
					return fmt.Errorf("search for secrets in /%s: %w", nodes[i].Path, err)
				}
				if name != "" {
					found.CompareAndSwap(nil, &leak{name, where, nodes[i]})
					return context.Canceled // the others need look no more
				}
				tell(nodes[i].Size)
			}
		})
	}
	err = group.Wait()
	if n := all.over.Load(); n > 0 && err == nil {
		b.emit(record.Note{Text: fmt.Sprintf(
			"the search for secrets unpacked %s of what is compressed, which is the most; %s searched no further",
			plain.MiB(mostUnpackedAll-max(all.left.Load(), 0)), plain.Counted(int(n), "file")+" were")})
	}
	if l := found.Load(); l != nil && ctx.Err() == nil { // now that nobody reads: what holds it is dropped
		return b.leak(ctx, l.name, l.where, l.node)
	}
	return err
}

// leak tells of a secret that was found, and throws the layer away that holds it.
func (b *branch) leak(ctx context.Context, name, where string, n *layer.Node) *LeakError {
	if where == "" {
		where = "in"
	}
	e := &LeakError{Image: b.plan.Image, Variant: b.shape.Variant, Stage: b.maker(n), Secret: name,
		Where: b.secrets.Text(where + " /" + n.Path)}
	if e.Stage != "" {
		e.Kept = b.dropLayer(ctx, b.layers[n.Layer]) != nil
	}
	return e
}

// dropLayer throws a layer away, so that the stage that made it runs again, unless a version consists of it.
func (b *branch) dropLayer(ctx context.Context, digest string) error {
	used := ""
	err := b.Catalog.Trees(context.WithoutCancel(ctx), func(ref string, trees []catalog.Tree) {
		for _, t := range trees {
			if slices.Contains(t.Layers, digest) {
				used = ref
			}
		}
	})
	if err == nil && used != "" {
		err = fmt.Errorf("%s consists of it", used)
	}
	if err != nil {
		return err
	}
	return b.Layers.Drop(digest)
}

// maker is the stage that a node is from, "" for the base.
func (b *branch) maker(n *layer.Node) string {
	if i := n.Layer - (len(b.layers) - len(b.makers)); i >= 0 {
		return b.makers[i]
	}
	return ""
}
