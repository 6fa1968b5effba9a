package api

import (
	"context"
	"fmt"
	"net"
	"net/http"
	"slices"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"tollgate.example/key/internal/base/seal"
	"tollgate.example/key/internal/core/config"
	"tollgate.example/key/internal/identity/account"
	"tollgate.example/key/internal/manage/audit"
	"tollgate.example/key/internal/upstream/trial"
	"tollgate.example/key/internal/web/apitype"
)

// gearTrials registers trials over TACACS+, and the sealing of emergency accounts.
func (s *server) gearTrials() {
	huma.Register(s.api, operation("POST", "/gear-trials", "try-gear",
		"Ask over TACACS+ as network gear would, through one of the clients; it walks the real road and is recorded"),
		func(ctx context.Context, in *struct {
			Body apitype.GearTrialInput
		}) (*body[apitype.GearTrialResult], error) {
			b := &in.Body
			e := audit.Of(ctx).Say(fmt.Sprintf("tried %s as %s on %s", b.Ask, b.User, b.Client))
			if err := e.Now(ctx); err != nil {
				return nil, unrecorded(err)
			}
			return s.tryGear(ctx, b)
		})
	huma.Register(s.api, operation("POST", "/accounts/{ref}/seal", "seal-account",
		"Give an emergency account a new password, which is shown once, and seal it"), func(ctx context.Context,
		in *OneInput) (*body[apitype.Sealed], error) {
		a := s.Accounts.Get(in.Ref)
		if a == nil || a.Emergency == "" {
			return nil, problem(http.StatusNotFound, "there is no emergency account "+in.Ref, "")
		}
		next := account.Account{ID: a.ID, Name: a.Name, Display: a.Display, Mail: a.Mail, Groups: a.Groups,
			Enabled: a.Enabled, Expires: a.Expires, Keeps: a.Keeps, Emergency: a.Emergency, ChangedAt: time.Now(),
			ChangedBy: who(ctx).Name}
		password := seal.Generate()
		saved, err := s.Accounts.Save(ctx, next, password)
		if err != nil {
			return nil, err
		}
		return ok(apitype.Sealed{Account: accountView(saved), Password: password}), nil
	})
}

func (s *server) tryGear(ctx context.Context, in *apitype.GearTrialInput) (*body[apitype.GearTrialResult], error) {
	client, at := config.Find(s.Gate.Current().Plan.Config.Clients, in.Client)
	if at < 0 {
		return nil, faulty("client", fmt.Sprintf("no client %q has been published", in.Client),
			"Choose one of the clients, and publish it first.")
	}
	if err := touch(ctx, client); err != nil {
		return nil, err
	}
	prefix, err := config.ParsePrefix(client.Addresses[0])
	if err != nil {
		return nil, err
	}
	if in.Ask == "command" && in.Command == "" {
		return nil, faulty("command", "no command", "Write what somebody would type.")
	}
	if in.Ask == "" {
		return nil, faulty("ask", "nothing to ask", "Choose login, enable, password, shell, command, start, stop, "+
			"update, or a service.")
	}
	if slices.Contains([]string{"login", "enable", "password"}, in.Ask) {
		in.Command = ""
	}
	by := who(ctx).Name
	g := trial.Gear{Dial: func(context.Context) (net.Conn, error) { return s.GearTrial(prefix.Addr(), by), nil },
		Server: client.Name, Timeout: 20 * time.Second}
	defer g.Close()
	limited, cancel := context.WithTimeout(ctx, 30*time.Second)
	defer cancel()
	begun := time.Now()
	reply, err := g.Try(limited, trial.GearAsk{Ask: in.Ask, Method: in.Method, User: in.User, Password: in.Password,
		New: in.New, Level: in.Level, Port: in.Port, Remote: in.From, Command: in.Command, Args: in.Args})
	out := apitype.GearTrialResult{At: begun, GearReply: reply}
	if err != nil {
		out.Fault = err.Error()
	}
	return ok(out), nil
}
