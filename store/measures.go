package store

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"github.com/google/uuid"
)

// A Resolution is how finely measures are kept.
type Resolution string

// The resolutions, each with its own table and its own time.
const (
	Minutes  Resolution = "minute"
	Quarters Resolution = "quarter"
	Hours    Resolution = "hour"
)

// steps are how far apart the measures of each resolution stand.
var steps = map[Resolution]time.Duration{Minutes: time.Minute, Quarters: 15 * time.Minute, Hours: time.Hour}

// partition returns the name and the bounds of the partition that a time falls into: a day of minutes, a month of quarters of an hour, a
// year of hours.
func (r Resolution) partition(at time.Time) (name string, from, to time.Time) {
	at = at.UTC()
	switch r {
	case Minutes:
		from = time.Date(at.Year(), at.Month(), at.Day(), 0, 0, 0, 0, time.UTC)
		to = from.AddDate(0, 0, 1)
	case Quarters:
		from = time.Date(at.Year(), at.Month(), 1, 0, 0, 0, 0, time.UTC)
		to = from.AddDate(0, 1, 0)
	default:
		from = time.Date(at.Year(), 1, 1, 0, 0, 0, 0, time.UTC)
		to = from.AddDate(1, 0, 0)
	}
	return fmt.Sprintf("measures_%s_%s", r, from.Format("20060102")), from, to
}

// ensure makes the partition of a time where there is none yet.
func (s Watched) ensure(ctx context.Context, r Resolution, at time.Time) error {
	name, from, to := r.partition(at)
	if _, known := s.partitions.Load(name); known {
		return nil
	}
	const day = "2006-01-02"
	_, err := s.on(ctx).ExecContext(ctx, "SELECT ensure_measures($1, $2, $3, $4)", string(r), name, from.Format(day), to.Format(day))
	if err == nil {
		s.partitions.Store(name, true)
	}
	return err
}

// DropMeasures drops the partitions of a resolution of which all is older than a time, and returns how many.
func (s Watched) DropMeasures(ctx context.Context, r Resolution, before time.Time) (n int, err error) {
	var names []string
	if err := s.on(ctx).SelectContext(ctx, &names, "SELECT c.relname FROM pg_inherits i JOIN pg_class c ON c.oid = i.inhrelid "+
		"WHERE i.inhparent = $1::regclass", "measures_"+string(r)); err != nil {
		return 0, err
	}
	for _, name := range names {
		from, err := time.Parse("20060102", strings.TrimPrefix(name, "measures_"+string(r)+"_"))
		if err != nil {
			continue // it is none of ours
		}
		if _, _, to := r.partition(from); to.After(before) {
			continue
		}
		if _, err := s.on(ctx).ExecContext(ctx, "DROP TABLE "+name); err != nil {
			return n, err
		}
		s.partitions.Delete(name)
		n++
	}
	return n, nil
}

// Measure adds numbers that were measured of a thing at one time, by what they are. Each is kept at each resolution, as the count, the sum
// and the bounds of what fell into its step.
func (s Watched) Measure(ctx context.Context, thing uuid.UUID, values map[string]float64, at time.Time) error {
	if len(values) == 0 {
		return nil
	}
	whats, numbers := make([]string, 0, len(values)), make([]float64, 0, len(values))
	for _, what := range slices.Sorted(maps.Keys(values)) {
		whats, numbers = append(whats, what), append(numbers, values[what])
	}
	for r, step := range steps {
		if err := s.ensure(ctx, r, at); err != nil {
			return fmt.Errorf("making room for measures: %w", err)
		}
		_, err := s.on(ctx).ExecContext(ctx, fmt.Sprintf(`INSERT INTO measures_%s AS m (thing, what, at, n, sum, least, most)
			SELECT $1, x.what, $2, 1, x.value, x.value, x.value FROM unnest($3::text[], $4::float8[]) x(what, value)
			ON CONFLICT (thing, what, at) DO UPDATE SET n = m.n + 1, sum = m.sum + excluded.sum,
			least = least(m.least, excluded.least), most = greatest(m.most, excluded.most)`, r), thing, at.UTC().Truncate(step), whats, numbers)
		if err != nil {
			return fmt.Errorf("keeping what was measured: %w", err)
		}
	}
	return nil
}

// A MeasuredPoint is what was measured in one step of time.
type MeasuredPoint struct {
	At    time.Time `db:"at" json:"at"`
	Mean  float64   `db:"mean" json:"mean"`
	Least float64   `db:"least" json:"least"`
	Most  float64   `db:"most" json:"most"`
}

// RememberMeasures keeps measures of a thing that were made elsewhere, at one resolution. What is there already stays.
func (s Watched) RememberMeasures(ctx context.Context, thing uuid.UUID, r Resolution, what string, points []MeasuredPoint) error {
	at := make([]time.Time, len(points))
	mean, least, most := make([]float64, len(points)), make([]float64, len(points)), make([]float64, len(points))
	for i, p := range points {
		at[i], mean[i], least[i], most[i] = p.At.UTC(), p.Mean, p.Least, p.Most
		if err := s.ensure(ctx, r, p.At); err != nil {
			return fmt.Errorf("making room for measures: %w", err)
		}
	}
	_, err := s.on(ctx).ExecContext(ctx, fmt.Sprintf(`INSERT INTO measures_%s (thing, what, at, n, sum, least, most)
		SELECT $1, $2, x.at, 1, x.mean, x.least, x.most
		FROM unnest($3::timestamptz[], $4::float8[], $5::float8[], $6::float8[]) x(at, mean, least, most) ON CONFLICT DO NOTHING`, r),
		thing, what, at, mean, least, most)
	return err
}

// Measures returns what was measured of a thing between two times, by what it is, in order of time.
func (s Watched) Measures(ctx context.Context, thing uuid.UUID, r Resolution, from, to time.Time) (map[string][]MeasuredPoint, error) {
	var rows []struct {
		What string `db:"what"`
		MeasuredPoint
	}
	if _, ok := steps[r]; !ok {
		return nil, fmt.Errorf("there is no resolution %q", r)
	}
	if err := s.on(ctx).SelectContext(ctx, &rows, fmt.Sprintf(`SELECT what, at, sum / n AS mean, least, most FROM measures_%s
		WHERE thing = $1 AND at >= $2 AND at <= $3 ORDER BY what, at`, r), thing, from, to); err != nil {
		return nil, err
	}
	out := map[string][]MeasuredPoint{}
	for _, x := range rows {
		out[x.What] = append(out[x.What], x.MeasuredPoint)
	}
	return out, nil
}
