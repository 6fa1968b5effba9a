package api

import (
	"context"
	"errors"
	"net/http"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"tollgate.example/key/internal/identity/device"
	"tollgate.example/key/internal/manage/audit"
	"tollgate.example/key/internal/manage/revision"
	"tollgate.example/key/internal/web/apitype"
)

func (s *server) devices() {
	keeper := func() *device.Keeper { return s.Gate.Devices }
	huma.Register(s.api, operation("GET", "/devices", "list-devices", "Known devices"), func(_ context.Context,
		in *ListInput) (*body[apitype.Page[apitype.Device]], error) {
		out := apitype.Page[apitype.Device]{Items: []apitype.Device{}}
		page, more := keeper().Page(in.Query, in.After, in.Limit)
		for _, d := range page {
			out.Items = append(out.Items, deviceView(d))
		}
		if more {
			out.Next = page[len(page)-1].ID
		}
		return ok(out), nil
	})
	huma.Register(s.api, operation("GET", "/unknown-devices", "list-unknown-devices",
		"MAC addresses that were refused lately because they are not known"),
		func(ctx context.Context, _ *none) (*body[apitype.Page[apitype.UnknownDevice]], error) {
			reach := s.reach(ctx)
			out := apitype.Page[apitype.UnknownDevice]{Items: []apitype.UnknownDevice{}}
			for _, d := range keeper().Strangers() {
				if len(out.Items) == 200 {
					break
				}
				if reach != nil && !reach(d.Client) {
					continue
				}
				out.Items = append(out.Items, apitype.UnknownDevice{MAC: d.MAC, Client: d.Client, Place: d.Place,
					First: d.First, Last: d.Last, Count: d.Count})
			}
			return ok(out), nil
		})
	huma.Register(s.api, operation("GET", "/devices/{ref}", "get-device", "Show one known device"),
		func(_ context.Context, in *OneInput) (*tagged[apitype.Device], error) {
			d := keeper().Get(in.Ref)
			if d == nil {
				return nil, problem(http.StatusNotFound, "there is no known device "+in.Ref, "")
			}
			view := deviceView(d)
			return &tagged[apitype.Device]{view.Tag, view}, nil
		})
	huma.Register(s.api, operation("POST", "/devices", "add-device", "Add a known device; it takes effect at once"),
		func(ctx context.Context, in *struct {
			Body apitype.DeviceFields
		}) (*tagged[apitype.Device], error) {
			return s.saveDevice(ctx, s.IDs.New(time.Now()).String(), &in.Body)
		})
	huma.Register(s.api, operation("PUT", "/devices/{ref}", "change-device",
		"Replace a known device; it takes effect at once"), func(ctx context.Context, in *struct {
		OneInput
		MatchInput
		Body apitype.DeviceFields
	}) (*tagged[apitype.Device], error) {
		d := keeper().Get(in.Ref)
		if d == nil {
			return nil, problem(http.StatusNotFound, "there is no known device "+in.Ref, "")
		}
		if in.IfMatch != "*" && in.IfMatch != deviceView(d).Tag {
			return nil, problem(http.StatusPreconditionFailed, "the device was changed meanwhile by "+d.ChangedBy,
				"Read it again and repeat your change.")
		}
		return s.saveDevice(ctx, d.ID, &in.Body)
	})
	huma.Register(s.api, operation("DELETE", "/devices/{ref}", "remove-device",
		"Remove a known device; it takes effect at once"), func(ctx context.Context, in *OneInput) (*struct{}, error) {
		d := keeper().Get(in.Ref)
		if d == nil {
			return nil, problem(http.StatusNotFound, "there is no known device "+in.Ref, "")
		}
		audit.Of(ctx).On("device", d.ID, d.Match).Say("removed device "+d.Match).From(deviceView(d).DeviceFields, nil)
		return nil, missing(keeper().Remove(ctx, d.ID), "known device")
	})
	big := operation("POST", "/device-import", "import-devices", "Import known devices from CSV, with a report on "+
		"every line")
	big.MaxBodyBytes = maxFile
	huma.Register(s.api, big, func(ctx context.Context, in *struct {
		Body apitype.Sheet
	}) (*body[apitype.SheetReport], error) {
		now := time.Now()
		imports(ctx, "device", &in.Body)
		report, err := keeper().Import(ctx, in.Body.CSV, in.Body.Check, in.Body.Partial, who(ctx).Name, func() string {
			return s.IDs.New(now).String()
		}, now)
		if err != nil {
			return nil, deviceProblem(err)
		}
		return ok(report), nil
	})
}

func (s *server) saveDevice(ctx context.Context, id string, in *apitype.DeviceFields) (*tagged[apitype.Device], error) {
	d := device.Device{ID: id, Match: in.Match, Name: in.Name, Owner: in.Owner, Tags: in.Tags, Note: in.Note,
		Enabled: in.Enabled, ChangedAt: time.Now(), ChangedBy: who(ctx).Name}
	if in.Expires != nil {
		d.Expires = *in.Expires
	}
	e := audit.Of(ctx).On("device", id, in.Match)
	if before := s.Gate.Devices.Get(id); before != nil {
		e.Say("changed device "+in.Match).From(deviceView(before).DeviceFields, in)
	} else {
		e.Say("added device "+in.Match).From(nil, in)
	}
	saved, err := s.Gate.Devices.Save(ctx, d)
	if err != nil {
		return nil, deviceProblem(err)
	}
	view := deviceView(saved)
	return &tagged[apitype.Device]{view.Tag, view}, nil
}

func deviceProblem(err error) error {
	var field *device.FieldError
	if errors.As(err, &field) {
		return faulty(field.Field, field.Message, field.Remedy)
	}
	return err
}

func deviceView(d *device.Device) apitype.Device {
	out := apitype.Device{ID: d.ID, ChangedAt: d.ChangedAt, ChangedBy: d.ChangedBy,
		DeviceFields: apitype.DeviceFields{Match: d.Match, Name: d.Name, Owner: d.Owner, Tags: d.Tags, Note: d.Note,
			Enabled: d.Enabled}}
	if !d.Expires.IsZero() {
		out.Expires = &d.Expires
	}
	out.Tag = revision.Tag(out)
	return out
}
