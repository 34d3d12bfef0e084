package plan

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"zygos/internal/secret"
)

// Order is a plan as plain data, which another process can carry out once it has the contents that the plan names by digest. Values of
// secrets are not in it.
type Order struct {
	Plan *Plan    `json:"plan"`
	From []string `json:"from"` // variant of the base, of each shape
}

// NewOrder is a plan as an order.
func NewOrder(p *Plan) *Order {
	o := &Order{Plan: p}
	for _, shape := range p.Shapes {
		o.From = append(o.From, shape.From)
	}
	return o
}

// Carrier makes orders ready where they are carried out.
type Carrier struct {
	Dir string // takes the place of the workspace
	// Content is what has a digest (64 hexadecimal digits), nil if it is not to be had. source is its file in the workspace, "" for none.
	Content func(digest, source string) []byte
	// Secret is a secret as it is now.
	Secret func(ctx context.Context, name string) (Mark, error)
}

// LacksError says what an order lacks to be carried out.
type LacksError struct {
	Of   string
	What []string
}

func (e *LacksError) Error() string {
	return fmt.Sprintf("%s cannot be carried out: it lacks %s", e.Of, strings.Join(e.What, "; "))
}

// Ready is the plan of an order with its scripts and secrets, and its files below Dir. If something is lacking, the error is a *LacksError.
func (c *Carrier) Ready(ctx context.Context, o *Order) (*Plan, error) {
	p := *o.Plan
	p.Shapes = slices.Clone(p.Shapes)
	if err := c.Lay(&p); err != nil {
		return nil, err
	}
	var lacks []string
	for i := range p.Shapes {
		shape := &p.Shapes[i]
		if i < len(o.From) {
			shape.From = o.From[i]
		}
		shape.Stages, shape.FirstBoot = slices.Clone(shape.Stages), slices.Clone(shape.FirstBoot)
		for j := range shape.Stages {
			s := &shape.Stages[j]
			s.Steps, s.Secrets = slices.Clone(s.Steps), slices.Clone(s.Secrets)
			for k := range s.Steps {
				lacks = append(lacks, c.step(&s.Steps[k], s.Name)...)
			}
			for k, m := range s.Secrets {
				today, err := c.Secret(ctx, m.Name)
				if err != nil {
					return nil, err
				}
				if today.Mark != m.Mark {
					lacks = append(lacks, fmt.Sprintf("the value that the secret %s had then; it has another one now", m.Name))
				}
				s.Secrets[k].Value = secret.Secret{Name: m.Name, Value: today.Value.Value}
			}
		}
		for k := range shape.FirstBoot {
			b := &shape.FirstBoot[k]
			if b.Script = c.Content(b.Digest, b.Source); b.Script == nil {
				lacks = append(lacks, fmt.Sprintf("the script of first boot %s", b.Name))
			}
		}
	}
	if len(lacks) > 0 {
		slices.Sort(lacks)
		return nil, &LacksError{p.Image + "@" + p.Version, slices.Compact(lacks)}
	}
	return &p, nil
}

// Lay lays out the files of a plan, as far as they are to be had: whoever needs one that is not says so.
func (c *Carrier) Lay(p *Plan) error {
	for _, s := range p.Sources {
		text := c.Content(s.Digest, s.Path)
		if text == nil || !filepath.IsLocal(s.Path) {
			continue
		}
		name := filepath.Join(c.Dir, s.Path)
		err := os.MkdirAll(filepath.Dir(name), 0o755)
		if err == nil {
			err = os.WriteFile(name, text, 0o644)
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// step brings the content of a step, or says what is not there.
func (c *Carrier) step(s *Step, stage string) (lacks []string) {
	if s.Copy == nil {
		if s.Script = c.Content(s.Digest, s.Source); s.Script == nil {
			lacks = append(lacks, fmt.Sprintf("%s of stage %s, as it was", s.Name, stage))
		}
		return lacks
	}
	for _, f := range s.Files {
		if f.Dir || f.Link != "" {
			continue
		}
		if text, err := os.ReadFile(filepath.Join(c.Dir, f.Source)); err != nil || Digest(text) != f.Digest {
			lacks = append(lacks, fmt.Sprintf("%s of stage %s, as it was", f.Source, stage))
		}
	}
	return lacks
}
