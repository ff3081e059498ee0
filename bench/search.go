package main

import (
	"context"
	"errors"
	"fmt"
	"time"

	"github.com/google/uuid"

	"unlatch/core/ground/address"
	"unlatch/sim/scene"
)

// Sites and cameras that are searched.
const (
	searchedSites   = 50
	searchedCameras = 50_000
)

// searched looks for cameras on all sites of a firm, by words of every kind.
func searched(ctx context.Context, _ *scene.Library) ([]figure, error) {
	l, err := bareLine(ctx, nil)
	if err != nil {
		return nil, err
	}
	defer l.close()
	s := l.store
	var sites []uuid.UUID
	for i := range searchedSites {
		site, err := s.Sites.Create(ctx, fmt.Sprintf("Site %d", i), address.MustParse("10.20.0.0/16"))
		if err != nil {
			return nil, err
		}
		sites = append(sites, site.ID)
	}
	const fill = `INSERT INTO devices (id, site_id, addr, name, serial, mac, endpoint) SELECT gen_random_uuid(), ($1::uuid[])[1 + i % $2],
		'10.20.' || i / 250 % 200 || '.' || i % 250 + 1, 'Camera ' || i || ' platform ' || i % 97, 'SN' || lpad(i::text, 8, '0'),
		'02:00:' || lpad(to_hex(i / 256 % 256), 2, '0') || ':' || lpad(to_hex(i % 256), 2, '0') || ':00:01', 'urn:searched:' || i
		FROM generate_series(1, $3::int) i`
	if _, err := s.Pool.Exec(ctx, fill, sites, searchedSites, searchedCameras); err != nil {
		return nil, err
	}
	if _, err := s.Pool.Exec(ctx, "ANALYZE"); err != nil {
		return nil, err
	}
	var took, floor []time.Duration
	for i := range 100 {
		began := time.Now()
		if _, err := s.Now(ctx); err != nil {
			return nil, err
		}
		floor = append(floor, time.Since(began))
		n := i*499 + 7
		for _, words := range [][]string{{fmt.Sprint("camera ", n)}, {"platform 41", fmt.Sprint("camera ", 1+n%9)}, {fmt.Sprintf("sn%08d", n)},
			{fmt.Sprintf("10.20.%d.", n%200)}, {"nothing of the sort"}} {
			began := time.Now()
			found, err := s.Devices.Search(ctx, sites, words, 40)
			took = append(took, time.Since(began))
			if err != nil || len(found) == 0 && words[0] != "nothing of the sort" {
				return nil, errors.Join(err, fmt.Errorf("%q finds %d", words, len(found)))
			}
		}
	}
	return []figure{{"A search over 50,000 cameras on 50 sites, p95", ms(p95(took)), ms(p95(floor)) + " a question for the time, p95",
		fmt.Sprintf("%.0f", float64(p95(took))/float64(p95(floor))), under(50, float64(p95(took).Milliseconds()), " ms")}}, nil
}
