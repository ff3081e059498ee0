package server

import (
	"context"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"unlatch/core/decide/act"
	"unlatch/core/decide/doctor"
)

// conditions serve whether the installation is well.
type conditions struct{ resource }

type conditionView struct {
	At        time.Time              `json:"at"`
	Findings  []doctor.ServerFinding `json:"findings" doc:"what is ill first"`
	Processes []doctor.Process       `json:"processes"`
	Database  *doctor.Database       `json:"database,omitempty"`
	Queue     *doctor.Queue          `json:"queue,omitempty"`
	LastGood  *doctor.Backup         `json:"last_backup,omitempty" doc:"the newest that was made by itself"`
}

func (s conditions) routes(api huma.API) {
	register(s, api, huma.Operation{OperationID: "get-condition", Method: "GET", Path: "/api/condition", Metadata: needs(act.Administer),
		Summary: "Whether the installation is well, and what to do where it is not"},
		func(ctx context.Context, _ *struct{}) (*struct{ Body conditionView }, error) {
			f, err := s.store.Upkeep.Condition(ctx)
			if err != nil {
				return nil, s.explain(err)
			}
			v := conditionView{At: f.At, Findings: doctor.Judge(f), Processes: f.Processes, Database: f.Database, Queue: f.Queue,
				LastGood: f.Backups.LastGood}
			return &struct{ Body conditionView }{v}, nil
		})
	register(s, api, huma.Operation{OperationID: "make-backup", Method: "POST", Path: "/api/backups", Summary: "Make a backup now"},
		func(ctx context.Context, _ *struct{}) (*struct{}, error) {
			list, err := s.store.Upkeep.Processes(ctx)
			if err != nil {
				return nil, s.explain(err)
			}
			to := ""
			for _, p := range list {
				if p.Backup != nil {
					to = p.Backup.To
				}
			}
			return s.keep(ctx, act.MakeBackup{To: to})
		})
}
