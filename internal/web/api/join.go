package api

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"strings"

	"github.com/danielgtaylor/huma/v2"

	"tollgate.example/key/internal/core/config"
	"tollgate.example/key/internal/core/results"
	"tollgate.example/key/internal/identity/directory"
	"tollgate.example/key/internal/identity/domain"
	"tollgate.example/key/internal/web/apitype"
)

// membership registers joining the domain of a directory, and leaving it.
func (s *server) membership() {
	huma.Register(s.api, operation("POST", "/directories/{ref}/join", "join-domain",
		"Become a member of the domain of a directory, so that MS-CHAP can be checked"), func(ctx context.Context,
		in *struct {
			OneInput
			PublishInput
			Body apitype.JoinInput
		}) (*body[apitype.Joined], error) {
		d, at := config.Find(s.Revisions.Draft().Directories, in.Ref)
		if at < 0 {
			return nil, problem(http.StatusNotFound, fmt.Sprintf("there is no directory %q in the draft", in.Ref), "")
		}
		computer := in.Body.Computer
		elsewhere := d.Member() && !s.Cluster.Alone() && s.Gate.MachineAccounts.Changed(d.Domain,
			s.Gate.MachineAccounts.Name(d.Domain, d.Computer)).IsZero()
		name := computer
		if elsewhere { // another node is a member: this one joins beside it
			name = s.Gate.MachineAccounts.Name(d.Domain, d.Computer)
		}
		joined, err := s.Gate.MachineAccounts.Join(ctx, *d, directory.JoinInput{BindName: in.Body.Name,
			Password: in.Body.Password, Computer: name, OU: in.Body.OU})
		var channel *domain.ChannelError
		switch {
		case errors.As(err, &channel):
			return nil, problem(http.StatusUnprocessableEntity, err.Error(),
				"Nothing was changed here. Check port 135 and the Netlogon port on the domain controller.")
		case err != nil:
			return nil, problem(http.StatusUnprocessableEntity, err.Error(), joinRemedy(err))
		}
		out := apitype.Joined{DN: joined.DN, Controller: joined.Controller}
		if elsewhere {
			return ok(out), nil
		}
		out.Revision, err = s.editDirectory(ctx, in.PublishInput, d.ID, func(d *config.Directory) {
			d.Domain, d.Computer = joined.Domain, strings.ToUpper(computer)
		})
		return ok(out), err
	})
	huma.Register(s.api, operation("POST", "/directories/{ref}/rotate", "rotate-machine-password",
		"Give our machine account in the domain of a directory in use a new password, as happens by itself every "+
			"30 days"), func(ctx context.Context, in *OneInput) (*body[apitype.Rotated], error) {
		d, at := config.Find(s.Gate.Current().Plan.Config.Directories, in.Ref)
		if at < 0 || !d.Member() {
			return nil, problem(http.StatusNotFound,
				fmt.Sprintf("there is no directory %q in use of whose domain we are a member", in.Ref),
				"Join it, and publish.")
		}
		if err := s.Gate.Rotate(ctx, d.Name); err != nil {
			return nil, problem(http.StatusBadGateway, err.Error(), "The present password stays in use. Run the test "+
				"of this directory.")
		}
		return ok(apitype.Rotated{Changed: s.Gate.MachineAccounts.Changed(d.Domain,
			s.Gate.MachineAccounts.Name(d.Domain, d.Computer))}), nil
	})
	huma.Register(s.api, operation("GET", "/directories/{ref}/delegation", "explain-delegation",
		"The least right that somebody needs to join the domain of a directory, as it is delegated"),
		func(ctx context.Context, in *struct {
			OneInput
			Name string `query:"name" maxLength:"300" doc:"Who is to be allowed to"`
			OU   string `query:"ou" maxLength:"500" doc:"Container, as a DN; empty is the one for computers"`
		}) (*body[results.Delegation], error) {
			d, _, err := s.directory(in.Ref)
			if err != nil {
				return nil, err
			}
			out, err := d.Delegation(ctx, in.Name, in.OU)
			if err != nil {
				return nil, problem(http.StatusUnprocessableEntity, err.Error(),
					"Give the account by its name in the domain.")
			}
			return ok(*out), nil
		})
	huma.Register(s.api, operation("POST", "/directories/{ref}/leave", "leave-domain",
		"No longer be a member of the domain; with credentials, which are used once, the machine account is "+
			"removed too"), func(ctx context.Context, in *struct {
		OneInput
		PublishInput
		Body *apitype.LeaveInput
	}) (*body[apitype.Published], error) {
		d, at := config.Find(s.Revisions.Draft().Directories, in.Ref)
		if at < 0 || !d.Member() {
			return nil, problem(http.StatusNotFound,
				fmt.Sprintf("there is no directory %q in the draft of whose domain we are a member", in.Ref), "")
		}
		if in.Body != nil && in.Body.Name != "" {
			own := *d
			own.Computer = s.Gate.MachineAccounts.Name(d.Domain, d.Computer)
			if err := directory.RemoveComputer(ctx, own, in.Body.Name, in.Body.Password); err != nil {
				return nil, problem(http.StatusUnprocessableEntity, "the machine account was not removed, and we are "+
					"still a member: "+err.Error(), "Leave without a name to remove, and have the account removed in "+
					"the domain.")
			}
		}
		number, err := s.editDirectory(ctx, in.PublishInput, d.ID, func(d *config.Directory) {
			d.Domain, d.Computer = "", ""
		})
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
	return "Who joins needs the right to create computer objects in the container, and nothing else: `tollgate " +
		"directory delegation` shows how it is delegated. To take over an account that exists, it needs the right to " +
		"reset its password."
}
