package attention

import (
	"strconv"
	"time"

	"tollgate.example/key/internal/core/config"
	"tollgate.example/key/internal/identity/certificate"
)

// DaysLeft counts whole days from a moment until another; negative if it is over.
func DaysLeft(until, now time.Time) int {
	const day = 24 * time.Hour
	d := until.Sub(now)
	if d < 0 {
		return int(d/day) - 1
	}
	return int(d / day)
}

// certificates lists the certificates in use that end soon or have ended.
func certificates(c *config.Config, now time.Time) []Item {
	var out []Item
	add := func(kind, name, id, text string, leaf bool) {
		list, err := certificate.ParsePEM(text)
		if err != nil {
			return
		}
		if leaf {
			list = list[:1]
		}
		for _, cert := range list {
			days := DaysLeft(cert.NotAfter, now)
			if days > soon {
				continue
			}
			item := Item{CertificateEnds, Warn, kind, id, map[string]string{"name": name,
				"subject": cert.Subject.String(),
				"until":   cert.NotAfter.UTC().Format(time.DateOnly), "days": strconv.Itoa(days)}}
			if days < 0 {
				item.Code, item.Severity = CertificateEnded, Fail
			}
			out = append(out, item)
		}
	}
	for i := range c.Certificates {
		add("certificate", c.Certificates[i].Name, c.Certificates[i].ID, c.Certificates[i].Chain, true)
	}
	for i := range c.Authorities {
		add("authority", c.Authorities[i].Name, c.Authorities[i].ID, c.Authorities[i].Certificate, true)
	}
	for i := range c.Trusts {
		add("trust", c.Trusts[i].Name, c.Trusts[i].ID, c.Trusts[i].PEM, false)
	}
	return out
}
