package main

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"slices"
	"sync/atomic"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"

	"unlatch/core/decide/act"
	"unlatch/core/wire/target/viabridge"
	"unlatch/sim/scene"
	"unlatch/store"
)

// acted measures acts at a site of 2,000 cameras: how long their requests take, and how many statements each costs.
func acted(ctx context.Context, _ *scene.Library) ([]figure, error) {
	var statements atomic.Int64
	l, err := layLine(ctx, func(context.Context, *pgx.Conn, string) { statements.Add(1) })
	if err != nil {
		return nil, err
	}
	defer l.close()
	s, site, devices, page := l.store, l.site, l.devices, l.page
	if _, err := s.Pool.Exec(ctx, "ANALYZE"); err != nil { // as the database does by itself within a minute
		return nil, err
	}
	path := "/api/sites/" + site.String()
	if _, _, err := page.get(path + "/changes"); err != nil { // the line-up is read once, as a page does
		return nil, err
	}
	placements, err := placedOnThree(ctx, s, site, devices[:500])
	if err != nil {
		return nil, err
	}
	var out []figure
	for _, c := range []struct {
		what     string
		path     string
		body     any
		queries  float64
		slowest  float64 // ms, p95
		repeated int
	}{
		{"Placing 500 cameras on 3 targets", path + "/place", map[string]any{"placements": placements}, 40, 150, 100},
		{"Opening 2,000 cameras", path + "/open", map[string]any{"devices": devices}, 40, 150, 100},
		{"Opening one camera", path + "/open", map[string]any{"devices": devices[:1]}, 12, 150, 100},
	} {
		fresh := func() error { // what stands as it is wanted would change nothing
			if _, err := s.Pool.Exec(ctx, "DELETE FROM wanted_placements"); err != nil {
				return err
			}
			// A day's acts stand minutes apart: the database has cleared away what the last one has left behind.
			_, err := s.Pool.Exec(ctx, "VACUUM devices, device_marks, wanted_placements, river_job")
			return err
		}
		took, most, err := page.repeat(c.path, c.body, c.repeated, fresh, &statements)
		if err != nil {
			return nil, fmt.Errorf("%s: %w", c.what, err)
		}
		out = append(out,
			figure{c.what + " of 2,000: the request, p95", ms(p95(took)), "", "", under(c.slowest, msOf(p95(took)), " ms")},
			figure{"The same: statements to the database, with the session and the begin and end of the transaction", fmt.Sprint(most), "", "",
				under(c.queries, float64(most), "")})
	}
	return out, nil
}

// placedOnThree makes three targets, and returns the placements of cameras on each of them.
func placedOnThree(ctx context.Context, s *store.Store, site uuid.UUID, cameras []uuid.UUID) (placements []map[string]any, err error) {
	for n := range 3 {
		id := uuid.Must(uuid.NewV7())
		form := act.TargetForm{Kind: viabridge.Kind, Name: fmt.Sprint("Vault ", n+1), Address: "http://10.20.255.1"}
		if err := s.Targets.Put(ctx, site, act.PutTarget{ID: id, New: true, TargetForm: form}); err != nil {
			return nil, err
		}
		for _, d := range cameras {
			placements = append(placements, map[string]any{"device": d, "target": id})
		}
	}
	return placements, nil
}

// repeat sends a request n times, each after fresh, and returns how long each took and the most statements that one cost.
func (p *page) repeat(path string, body any, n int, fresh func() error, statements *atomic.Int64) (took []time.Duration, most int64,
	err error) {
	raw, err := json.Marshal(body)
	if err != nil {
		return nil, 0, err
	}
	for range n {
		if err := fresh(); err != nil {
			return nil, 0, err
		}
		before, began := statements.Load(), time.Now()
		res, err := p.client.Post(p.url+path, "application/json", bytes.NewReader(raw))
		if err != nil {
			return nil, 0, err
		}
		answer, _ := io.ReadAll(res.Body)
		res.Body.Close()
		took = append(took, time.Since(began))
		if res.StatusCode != http.StatusAccepted {
			return nil, 0, fmt.Errorf("was answered with %d: %.200s", res.StatusCode, answer)
		}
		most = max(most, statements.Load()-before)
	}
	slices.Sort(took)
	return took, most, nil
}
