package jobs

import (
	"context"

	"github.com/google/uuid"
	"github.com/riverqueue/river"

	"unlatch/core/evidence"
	"unlatch/store"
)

// MarkArgs has one camera show which one it is.
type MarkArgs struct {
	Run    uuid.UUID     `json:"run"`
	Device uuid.UUID     `json:"device"`
	How    evidence.Mark `json:"how"`
	Text   string        `json:"text"`
	Back   bool          `json:"back"` // put back what stands, and do nothing else
}

// Kind implements river.JobArgs.
func (MarkArgs) Kind() string { return "mark" }

// Mark begins a run that has cameras show which one they are, one job each. They wait while their labels stand, and share the queue of
// those that wait for restarts.
func (q *Queue) Mark(ctx context.Context, site uuid.UUID, title string, devices []uuid.UUID, how evidence.Mark, text string,
	back bool) (store.Run, error) {
	return beginIn(ctx, q, moveQueueOf(site), site, "mark", title, int64(len(devices)), devices, func(run, device uuid.UUID) river.JobArgs {
		return MarkArgs{Run: run, Device: device, How: how, Text: text, Back: back}
	})
}

type markWorker struct {
	river.WorkerDefaults[MarkArgs]
	env *env
}

func (w *markWorker) Work(ctx context.Context, job *river.Job[MarkArgs]) error {
	return w.env.onDevice(ctx, job.Args.Run, job.Args.Device, func(d *deviceJob) error {
		return d.Mark(ctx, job.Args.How, job.Args.Text, job.Args.Back)
	})
}
