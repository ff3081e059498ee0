package store

import (
	"context"
	"strconv"
	"strings"

	"github.com/google/uuid"

	"unlatch/core/decide/evidence"
)

// A Found is a device that was found by a search.
type Found struct {
	Device
	SiteName string `db:"site_name"`
}

// Search finds devices of some sites by words, all of which stand in what a device is called, in its address, its marks or what it says of
// itself, whatever their letters' size. It returns most of them at most, site after site in the order in which those were made, with as
// much of their status as their titles need.
func (s Devices) Search(ctx context.Context, sites []uuid.UUID, words []string, most int) ([]Found, error) {
	args, where := []any{sites, most}, ""
	for _, w := range words { // one comparison a word: an index serves LIKE, and does not serve LIKE ALL
		args = append(args, "%"+likeText.Replace(strings.ToLower(w))+"%")
		where += " AND w.words LIKE $" + strconv.Itoa(len(args))
	}
	var out []Found
	if err := s.on(ctx).SelectContext(ctx, &out, `SELECT `+columnsOf("d")+`, s.name AS site_name
		FROM device_words w JOIN devices d ON d.id = w.device_id JOIN sites s ON s.id = d.site_id
		WHERE d.site_id = ANY ($1)`+where+` ORDER BY s.created_at, s.id, d.name, d.addr, d.id LIMIT $2`, args...); err != nil {
		return nil, err
	}
	ids, devices := make([]uuid.UUID, len(out)), make([]Device, len(out))
	for i := range out {
		ids[i], devices[i] = out[i].ID, out[i].Device
	}
	var records []evidence.Record
	if err := s.on(ctx).SelectContext(ctx, &records, latestQuery("d.id = ANY($1) AND l.kind IN ('heard', 'signed_in')", "hasexchange"),
		ids); err != nil {
		return nil, err
	}
	titles := map[uuid.UUID]Device{}
	if err := s.stand(ctx, devices, records, &intentReading{}); err != nil {
		return nil, err
	}
	for _, d := range devices {
		titles[d.ID] = d
	}
	for i := range out {
		out[i].Device = titles[out[i].ID]
	}
	return out, nil
}

// likeText has a text stand for itself in a pattern of LIKE.
var likeText = strings.NewReplacer(`\`, `\\`, "%", `\%`, "_", `\_`)

// columnsOf returns deviceColumns of a table by its short name.
func columnsOf(table string) string {
	return table + "." + strings.ReplaceAll(deviceColumns, ", ", ", "+table+".")
}
