package jobs

import (
	"cmp"
	"context"
	"time"

	"unlatch/core/decide/doctor"
	"unlatch/core/decide/telling"
	"unlatch/store"
)

// judgeEvery is how often the installation is judged for whoever is told of it.
const judgeEvery = 30 * time.Second

// illNews are the messages of a rule about the installation itself.
func (e *env) illNews(ctx context.Context, r store.TellRule, a telling.About) (list []store.Tell, err error) {
	found, err := e.judged(ctx, a.At)
	if err != nil {
		return nil, err
	}
	told, err := e.store.Upkeep.ToldIll(ctx, r.ID)
	if err != nil {
		return nil, err
	}
	began, over := telling.IllNews(found, told)
	for _, f := range began {
		list = append(list, store.Tell{Message: telling.OfIll(f, a), Ill: map[string]string{f.Key(): f.Says}})
	}
	for _, key := range over {
		list = append(list, store.Tell{Message: telling.OfIllOver(told[key], a), Ill: map[string]string{key: ""}})
	}
	return list, nil
}

// judged returns the findings of the installation, which are not older than judgeEvery. It is called by one goroutine alone.
func (e *env) judged(ctx context.Context, now time.Time) ([]doctor.ServerFinding, error) {
	if now.Sub(e.judgedAt) < cmp.Or(e.hooks.TellEvery, judgeEvery) && !now.Before(e.judgedAt) {
		return e.findings, nil
	}
	f, err := e.store.Upkeep.Condition(ctx)
	if err != nil {
		return nil, err
	}
	e.findings, e.judgedAt = doctor.Judge(f), now
	return e.findings, nil
}
