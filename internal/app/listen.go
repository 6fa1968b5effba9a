package app

import (
	"net/netip"

	"tollgate.example/key/internal/front/tacacs"
	"tollgate.example/key/internal/manage/sources"
	"tollgate.example/key/internal/web/api"
)

// listening are the addresses at which devices ask.
func (a *App) listening() (out []api.Listening) {
	for _, l := range []struct {
		what string
		at   []netip.AddrPort
	}{{"RADIUS", a.RADIUS}, {"RADIUS accounting", a.Accounting}, {"RADIUS over TLS", a.RADIUSTLS},
		{"RADIUS over DTLS", a.RADIUSDTLS}, {"TACACS+", a.TACACS}, {"TACACS+ over TLS", a.TACACSTLS}} {
		for _, at := range l.at {
			out = append(out, api.Listening{What: l.what, At: at})
		}
	}
	return out
}

// openTACACS opens the sockets of TACACS+.
func (a *App) openTACACS(o *Options, registry *sources.Registry) error {
	var err error
	if a.tacacs, err = tacacs.Serve(a.Gate, registry, o.TACACS, o.TACACSTLS); err != nil {
		if !o.TACACSOptional {
			return err
		}
		o.Log.Warn(
			"TACACS+ is off; name its addresses with -tacacs and -tacacs-tls, or let the service use low ports",
			"error",
			err,
		)
		if a.tacacs, err = tacacs.Serve(a.Gate, registry, nil, nil); err != nil {
			return err
		}
	}
	a.TACACS, a.TACACSTLS = a.tacacs.Addresses()
	a.done = append(a.done, a.tacacs.Close)
	return nil
}
