package api

import (
	"context"
	"errors"
	"fmt"
	"net/http"

	"github.com/danielgtaylor/huma/v2"

	"tollgate.example/key/internal/apitype"
	"tollgate.example/key/internal/core/config"
	"tollgate.example/key/internal/directory"
	"tollgate.example/key/internal/gate"
)

// membership registers joining the domain of a directory, and leaving it.
func (s *server) membership() {
	huma.Register(s.api, operation("POST", "/directories/{ref}/join", "join-domain", "Become a member of the domain of a directory, so that MS-CHAP can be checked"), func(ctx context.Context, in *struct {
		OneInput
		PublishInput
		Body apitype.JoinInput
	}) (*body[apitype.Joined], error) {
		d, at := config.Find(s.Revisions.Draft().Directories, in.Ref)
		if at < 0 {
			return nil, problem(http.StatusNotFound, fmt.Sprintf("there is no directory %q in the draft", in.Ref), "")
		}
		joined, err := directory.Join(ctx, *d, directory.JoinInput{BindName: in.Body.Name, Password: in.Body.Password, Computer: in.Body.Computer, OU: in.Body.OU})
		if err != nil {
			return nil, problem(http.StatusUnprocessableEntity, "the domain was not joined: "+err.Error(), joinRemedy(err))
		}
		trial := *d
		trial.Domain, trial.Computer = joined.Domain, joined.Computer
		member := gate.Membership(&trial, joined.Password)
		defer member.Close()
		out := apitype.Joined{DN: joined.DN}
		if out.Controller, err = member.Test(ctx); err != nil {
			return nil, problem(http.StatusUnprocessableEntity, fmt.Sprintf("the machine account %s was made, but its secure channel fails: %v", joined.DN, err), "Nothing was changed here. Look at port 135 and the one of Netlogon on the domain controller.")
		}
		out.Revision, err = s.editDirectory(ctx, in.PublishInput, d.ID, func(d *config.Directory) {
			d.Domain, d.Computer, d.MachinePassword = joined.Domain, joined.Computer, s.Box.Seal(joined.Password)
		})
		return ok(out), err
	})
	huma.Register(s.api, operation("POST", "/directories/{ref}/leave", "leave-domain", "No longer be a member of the domain; the machine account stays there until somebody removes it"), func(ctx context.Context, in *struct {
		OneInput
		PublishInput
	}) (*body[apitype.Published], error) {
		d, at := config.Find(s.Revisions.Draft().Directories, in.Ref)
		if at < 0 || !d.Member() {
			return nil, problem(http.StatusNotFound, fmt.Sprintf("there is no directory %q in the draft of whose domain we are a member", in.Ref), "")
		}
		number, err := s.editDirectory(ctx, in.PublishInput, d.ID, func(d *config.Directory) { d.Domain, d.Computer, d.MachinePassword = "", "", "" })
		return ok(apitype.Published{Revision: number, Warnings: []config.Problem{}}), err
	})
}

// joinRemedy tells a wrong sign-in and a server that is away from a right that is missing.
func joinRemedy(err error) string {
	var f *directory.Failure
	switch {
	case errors.As(err, &f) && f.Bind:
		return "Type the name and the password again; the name may be a DN, name@domain or DOMAIN\\name."
	case errors.As(err, &f):
		return f.Remedy
	}
	return "The account needs the right to create computer objects in the container, and nothing else."
}
