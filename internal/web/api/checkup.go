package api

import (
	"context"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/danielgtaylor/huma/v2/sse"

	"tollgate.example/key/internal/core/config"
	"tollgate.example/key/internal/core/results"
	"tollgate.example/key/internal/manage/checkup"
	"tollgate.example/key/internal/web/apitype"
)

const (
	checkupPatience = 10 * time.Minute
	shownChanges    = 50
)

func (s *server) checkup() {
	huma.Register(s.api, operation("GET", "/checkup", "get-checkup",
		"The last outcome of every check, the worst first, and what changed"), func(ctx context.Context,
		_ *AtNodeInput) (*body[apitype.Checkup], error) {
		lines, ran := s.Checkup.Last()
		changes, err := s.Checkup.Changes(ctx, shownChanges)
		out := apitype.Checkup{Every: int(checkup.Every.Minutes()), Lines: lines, Changes: changes}
		if !ran.IsZero() {
			out.Ran = &ran
		}
		return ok(out), err
	})
	op := operation("POST", "/checkup", "run-checkup", "Run the checks now; each as it happens")
	sse.Register(s.api, op, map[string]any{"line": results.Line{}, "end": apitype.CheckupEnd{}},
		func(ctx context.Context, in *struct {
			AtNodeInput
			Body apitype.CheckupInput
		}, send sse.Sender) {
			ctx, cancel := context.WithTimeout(ctx, checkupPatience)
			defer cancel()
			only := ""
			if in.Body.Directory != "" {
				d, at := config.Find(s.Gate.Current().Plan.Config.Directories, in.Body.Directory)
				if at < 0 {
					send.Data(results.Line{Step: results.Step{Key: "input", Title: "Find the directory",
						State: results.Fail, Detail: "there is no directory " + in.Body.Directory + " in use",
						Remedy: "Publish it first."}})
					send.Data(apitype.CheckupEnd{})
					return
				}
				only = d.ID
			}
			passed, err := s.Checkup.Run(ctx, only, func(l results.Line) {
				if send.Data(l) != nil {
					cancel() // nobody reads any more
				}
			})
			if err != nil {
				send.Data(results.Line{Step: results.Step{Key: "run", Title: "Finish the checkup", State: results.Fail,
					Detail: err.Error(), Remedy: "Run it again."}})
			}
			send.Data(apitype.CheckupEnd{OK: passed && err == nil})
		})
}
