package store

import (
	"context"

	"github.com/google/uuid"
)

// A FirmwareCount says how many devices of a model run a version of firmware at a site, by what they said when they were signed in to.
type FirmwareCount struct {
	Site    uuid.UUID `db:"site_id"`
	Maker   string    `db:"maker"`
	Model   string    `db:"model"`
	Version string    `db:"version"` // empty where the device tells none
	Devices int       `db:"devices"`
}

// Firmware counts the versions of firmware at some sites, in the order of maker, model, version and site.
func (s Devices) Firmware(ctx context.Context, sites []uuid.UUID) (out []FirmwareCount, err error) {
	return out, s.on(ctx).SelectContext(ctx, &out, `
		SELECT d.site_id, e.body->'info'->>'manufacturer' AS maker, e.body->'info'->>'model' AS model,
			e.body->'info'->>'firmware' AS version, count(DISTINCT d.id) AS devices
		FROM latest_evidence l JOIN evidence e ON e.id = l.evidence_id JOIN devices d ON d.id = l.device_id
		WHERE l.kind = 'signed_in' AND d.site_id = ANY ($1) AND e.body->'info'->>'model' <> ''
		GROUP BY 1, 2, 3, 4 ORDER BY maker, model, version, d.site_id`, sites)
}
