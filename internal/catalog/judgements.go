package catalog

import (
	"context"
	"time"
)

// Judgement is what checks said of a version at some time.
type Judgement struct {
	Image    string    `json:"image"`
	Version  string    `json:"version"`
	At       time.Time `json:"at"`
	Who      string    `json:"who"`
	Host     string    `json:"host"`
	How      string    `json:"how"` // "build", or "test"
	Passed   int       `json:"passed"`
	Failed   int       `json:"failed"`
	Warned   int       `json:"warned"`
	Skipped  int       `json:"skipped"`
	Digest   string    `json:"digest"` // of the document
	Document string    `json:"-"`      // zygos.judgement/1
}

// Checks is how many checks judged.
func (j *Judgement) Checks() int { return j.Passed + j.Failed + j.Warned + j.Skipped }

// Judge records what checks said of a version.
func (c *Catalog) Judge(ctx context.Context, j Judgement) error {
	return c.asOne(ctx, func(tx session) error {
		if err := stays(ctx, tx, j.Image, j.Version); err != nil {
			return err
		}
		return j.add(ctx, tx)
	})
}

func (j Judgement) add(ctx context.Context, tx session) error {
	_, err := tx.exec(ctx, `INSERT INTO judgements (image, version, at, who, host, how, passed, failed, warned, skipped, digest, document)
		VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?) ON CONFLICT (image, version, at) DO NOTHING`, j.Image, j.Version, stamp(j.At), j.Who, j.Host,
		j.How, j.Passed, j.Failed, j.Warned, j.Skipped, j.Digest, j.Document)
	return err
}

// Judgements lists what checks said of a version, newest first.
func (c *Catalog) Judgements(ctx context.Context, image, version string) ([]Judgement, error) {
	rows, err := c.rows(ctx, `SELECT image, version, at, who, host, how, passed, failed, warned, skipped, digest, document FROM judgements
		WHERE image = ? AND version = ? ORDER BY at DESC`, image, version)
	return collect(rows, err, func(rows row) (j Judgement, err error) {
		var at string
		err = rows.Scan(&j.Image, &j.Version, &at, &j.Who, &j.Host, &j.How, &j.Passed, &j.Failed, &j.Warned, &j.Skipped, &j.Digest, &j.Document)
		j.At = unstamp(at)
		return j, err
	})
}
