package jobs

import (
	"context"
	"errors"
	"fmt"
	"regexp"
	"strings"

	"github.com/google/uuid"
	"github.com/riverqueue/river"
	"github.com/riverqueue/river/rivertype"
)

// uuids finds the IDs in a job's arguments.
var uuids = regexp.MustCompile(`[0-9a-f]{8}(-[0-9a-f]{4}){3}-[0-9a-f]{12}`)

const uuidLength = 36

// siteOf returns the site of a queue; ok is false for a queue that is of no site.
func siteOf(queue string) (site uuid.UUID, ok bool) {
	text, ok := strings.CutPrefix(queue, queuePrefix)
	if !ok || len(text) < uuidLength {
		return site, false
	}
	site, err := uuid.Parse(text[:uuidLength])
	return site, err == nil
}

// errElsewhere is for a job that names what is of another site than its queue.
var errElsewhere = errors.New("the job names what is of another site")

// ofSite runs a job only if all that it names is of the site whose queue it came by. Paired workers put jobs into the queues of their
// sites, and this one may have more rights than they.
func (e *env) ofSite(ctx context.Context, job *rivertype.JobRow, work func(context.Context) error) error {
	site, ok := siteOf(job.Queue)
	if !ok || e.store.IsFar() { // a paired worker sees nothing of another site
		return work(ctx)
	}
	var ids []uuid.UUID
	for _, text := range uuids.FindAllString(string(job.EncodedArgs), -1) {
		if id, err := uuid.Parse(text); err == nil && id != site {
			ids = append(ids, id)
		}
	}
	strange, err := e.store.Sites.Elsewhere(ctx, site, ids)
	if err != nil {
		return e.finish(ctx, uuid.Nil, err)
	}
	if strange {
		e.log.WarnContext(ctx, "a job is not done: it names what is of another site than its queue", "job", job.ID, "site", site)
		return river.JobCancel(fmt.Errorf("job %d: %w", job.ID, errElsewhere))
	}
	return work(ctx)
}
