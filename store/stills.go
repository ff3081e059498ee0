package store

import (
	"context"

	"github.com/google/uuid"

	"unlatch/core/decide/evidence"
	"unlatch/core/stream/picturematch"
)

// StillOf returns the latest picture of one camera, of its main stream where there is one; nil where there is none.
func (s Devices) StillOf(ctx context.Context, device uuid.UUID) ([]byte, error) {
	m, err := s.stillsOf(ctx, []uuid.UUID{device})
	return m[device], err
}

func (s Devices) stillsOf(ctx context.Context, devices []uuid.UUID) (map[uuid.UUID][]byte, error) {
	var rows []struct {
		Device uuid.UUID `db:"device_id"`
		JPEG   []byte    `db:"jpeg"`
	}
	err := s.on(ctx).SelectContext(ctx, &rows,
		`SELECT DISTINCT ON (e.device_id) e.device_id, p.jpeg FROM evidence e
		JOIN stills p ON p.device_id = e.device_id AND p.id::text = e.body ->> 'still'
		WHERE e.kind = 'proof' AND e.device_id = ANY($1)
		ORDER BY e.device_id, e.body ->> 'role' = 'main' DESC, e.at DESC`, devices)
	out := map[uuid.UUID][]byte{}
	for _, r := range rows {
		out[r.Device] = r.JPEG
	}
	return out, err
}

// mostAlike is how many cameras are taken for those that look most like a picture: so many that are wanted on the target, and so many of
// the others.
const mostAlike = 8

// Alike returns the latest pictures of the cameras of a site that look most like a picture, by their sketches: of some that are wanted on a
// target, and of some others. Which of them is the same view the caller tells.
func (s Devices) Alike(ctx context.Context, site uuid.UUID, shown picturematch.Sketch, target uuid.UUID) (map[uuid.UUID][]byte, error) {
	if shown == "" {
		return nil, nil
	}
	if err := s.sketchOlder(ctx, site); err != nil {
		return nil, err
	}
	var near []uuid.UUID
	err := s.on(ctx).SelectContext(ctx, &near, `WITH apart AS (
			SELECT p.device_id, min(bit_count(p.sketch # $2::text::bit varying)) AS bits,
				EXISTS (SELECT 1 FROM wanted_placements w WHERE w.device_id = p.device_id AND w.target_id = $3) AS there
			FROM stills p JOIN devices d ON d.id = p.device_id
			WHERE d.site_id = $1 AND length(p.sketch) = length($2::text) GROUP BY p.device_id),
		ranked AS (SELECT device_id, row_number() OVER (PARTITION BY there ORDER BY bits, device_id) AS place FROM apart)
		SELECT device_id FROM ranked WHERE place <= $4`, site, string(shown), target, mostAlike)
	if err != nil || len(near) == 0 {
		return nil, err
	}
	return s.stillsOf(ctx, near)
}

// sketchedAtOnce is how many pictures are read at once to make their sketches.
const sketchedAtOnce = 32

// sketchOlder makes the sketches of the pictures of a site that were kept before there were sketches. This is done once.
func (s Devices) sketchOlder(ctx context.Context, site uuid.UUID) error {
	for {
		var rows []struct {
			ID    uuid.UUID `db:"id"`
			JPEG  []byte    `db:"jpeg"`
			Proof bool      `db:"proof"`
		}
		err := s.on(ctx).SelectContext(ctx, &rows, `SELECT p.id, p.jpeg, EXISTS (SELECT 1 FROM evidence e WHERE e.device_id = p.device_id
				AND e.kind = 'proof' AND e.body ->> 'still' = p.id::text) AS proof
			FROM stills p JOIN devices d ON d.id = p.device_id WHERE d.site_id = $1 AND p.sketch IS NULL LIMIT $2`, site, sketchedAtOnce)
		if err != nil || len(rows) == 0 {
			return err
		}
		var done int64
		for _, r := range rows {
			sketch := picturematch.Sketch("")
			if r.Proof {
				sketch = sketchOf(r.JPEG)
			}
			res, err := s.on(ctx).ExecContext(ctx, "UPDATE stills SET sketch = $2::text::bit varying WHERE id = $1", r.ID, string(sketch))
			if err != nil {
				return err
			}
			n, _ := res.RowsAffected()
			done += n
		}
		if done == 0 { // whoever may not keep sketches is not held up by them
			return nil
		}
	}
}

func sketchOf(still []byte) picturematch.Sketch {
	print, _ := picturematch.OfStill(still)
	return print.Sketch()
}

// sketch returns the sketch of what a finding has a picture of. Only what a camera itself has shown is found by it: what a target shows may
// be another camera's.
func (f *Finding) sketch() picturematch.Sketch {
	if f.Still == nil || evidence.KindOf(f.Body) != evidence.KindOf(evidence.Proof{}) {
		return ""
	}
	return sketchOf(f.Still)
}
