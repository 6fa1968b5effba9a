package api

import (
	"bytes"
	"cmp"
	"context"
	"encoding/csv"
	"fmt"
	"strconv"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"tollgate.example/key/internal/core/config"
	"tollgate.example/key/internal/core/rule"
	"tollgate.example/key/internal/identity/sheet"
	"tollgate.example/key/internal/manage/readiness"
	"tollgate.example/key/internal/manage/revision"
	"tollgate.example/key/internal/web/apitype"
)

// rollout asks a group for a second factor, and says who is ready as a file.
func (s *server) rollout() {
	huma.Register(s.api, operation("POST", "/factor-rollout", "roll-out-factor",
		"Have a lane of the draft ask a group for a second factor, beside those that it asks already"),
		func(ctx context.Context, in *struct{ Body apitype.RolloutInput }) (*body[apitype.Rollout], error) {
			report, err := s.Ready.Report(ctx, readiness.UsualDays)
			if err != nil {
				return nil, err
			}
			group := strings.TrimSpace(in.Body.Group)
			out := apitype.Rollout{}
			for i := range report.People {
				if report.People[i].Has(group) {
					out.People++
				}
			}
			if out.People == 0 {
				return nil, faulty(
					"group",
					fmt.Sprintf("nobody who signed in lately, or has an account, is in %q", group),
					"See who is ready, or edit the lane.",
				)
			}
			err = s.Revisions.Edit(ctx, who(ctx).Name, func(c *config.Config, _ revision.Authors) (string, error) {
				_, at := config.Find(c.Lanes, in.Body.Lane)
				if at < 0 {
					return "", faulty("lane", fmt.Sprintf("there is no lane %q in the draft", in.Body.Lane), "")
				}
				lane := config.Own(c.Lanes, at)
				if err := asks(lane, group, &in.Body); err != nil {
					return "", err
				}
				out.Without = s.without(report, group, lane)
				out.Lane, out.Factor, out.When, out.Until = lane.Name, lane.SecondFactor, lane.Factor.When, nil
				if !lane.Factor.Until.IsZero() {
					out.Until = &lane.Factor.Until
				}
				return lane.ID, nil
			})
			if err != nil {
				return nil, editProblem(err)
			}
			return ok(out), nil
		})
	huma.Register(s.api, operation("GET", "/factor-readiness/file", "export-factor-readiness",
		"Who is ready, as CSV"), func(ctx context.Context, in *struct {
		Group string `query:"group" maxLength:"300" doc:"People of this group; everybody if it is empty"`
	}) (*fileOutput, error) {
		report, err := s.Ready.Report(ctx, readiness.UsualDays)
		if err != nil {
			return nil, err
		}
		view := s.readinessView(report, in.Group, false, len(report.People))
		var b bytes.Buffer
		w := csv.NewWriter(&b)
		_ = w.Write([]string{"person", "name", "store", "groups", "ready", "with", "locked", "refused", "signed_in",
			"in_grace_since"}) // to memory
		for _, p := range view.People {
			_ = w.Write([]string{sheet.Quoted(p.Person), sheet.Quoted(p.Display), sheet.Quoted(p.Store),
				sheet.Quoted(
					strings.Join(p.Groups, ", "),
				), strconv.FormatBool(p.Enrolled), strings.Join(p.With, ", "),
				strconv.FormatBool(p.Locked), strconv.Itoa(p.Failed), stamped(p.Seen), stamped(p.Graced)})
		}
		w.Flush()
		return &fileOutput{"text/csv; charset=utf-8", b.Bytes()}, w.Error()
	})
}

// without counts the people of a group who have nothing that a lane takes: a code does not get through every method.
func (s *server) without(report *readiness.Report, group string, lane *config.Lane) (n int) {
	now := time.Now()
	for i := range report.People {
		p := &report.People[i]
		if !p.Has(group) {
			continue
		}
		if codes, phones := s.Factors.Ways(p.Store, p.Name, now); !(codes && lane.CarriesCode()) &&
			!(phones && lane.TakesApproval()) {
			n++
		}
	}
	return n
}

// asks has a lane ask a group for a second factor. Those whom it asks already go on being asked, by what they are asked
// for now.
func asks(lane *config.Lane, group string, in *apitype.RolloutInput) error {
	term := ""
	if group != "" {
		term = "group is " + rule.Quote(group)
	}
	before := lane.Factor.When
	switch {
	case lane.SecondFactor == "":
		lane.Factor.When = term
	case in.Factor != "" && in.Factor != lane.SecondFactor:
		return faulty(
			"factor",
			fmt.Sprintf("lane %s asks others for %q already, and a lane asks for one kind", lane.Name,
				lane.SecondFactor),
			"Leave it out, or edit the lane.",
		)
	case before == "":
		return faulty("lane", "lane "+lane.Name+" asks everybody already", "There is nothing to do.")
	case term == "":
		lane.Factor.When = ""
	case strings.Contains(" or "+before+" or ", " or "+term+" or "):
		return faulty("lane", fmt.Sprintf("lane %s asks %q already", lane.Name, group), "There is nothing to do.")
	default:
		lane.Factor.When = before + " or " + term // `and` binds stronger
	}
	lane.SecondFactor = cmp.Or(lane.SecondFactor, in.Factor, config.AnyFactor)
	if !in.Until.IsZero() {
		if in.Until.Before(time.Now()) {
			return faulty("until", "this moment is past", "Give one to come, or none.")
		}
		lane.Factor.Until = in.Until.UTC()
	}
	return nil
}

func stamped(at *time.Time) string {
	if at == nil {
		return ""
	}
	return at.UTC().Format(time.RFC3339)
}
