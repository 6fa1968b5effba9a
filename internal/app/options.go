package app

import (
	"log/slog"
	"time"

	"tollgate.example/key/internal/cluster"
	"tollgate.example/key/internal/manage/host"
	"tollgate.example/key/internal/store/record"
)

// Options are the settings of a start.
type Options struct {
	// Data is the directory that holds the database and the key file.
	Data string
	// HTTP is where the console and the API are served. Addresses other than loopback are served by TLS only.
	HTTP string
	// Node is the number of this node among those that share records, 0 to 255: it is part of every identifier.
	Node uint8
	// HTTPHosts are further names under which the console is opened where it is served in clear, such as by a proxy on
	// this machine.
	HTTPHosts []string
	// Portal is where people look after their own second factor, empty for nowhere. Addresses other than loopback are
	// served by TLS only, with PortalCert and PortalKey or else the certificate of the console. PortalURL is how people
	// reach it, if not by that address.
	Portal, PortalCert, PortalKey, PortalURL string
	// PortalTheme is a file with their name, colours and texts, empty for the usual ones; see portal.ReadTheme.
	PortalTheme string
	// Push is the mail address that push services may write to about us, empty to tell phones of nothing while their
	// page is closed. PushPrivate allows push services that are not on the internet, PushCA is a PEM file with an
	// authority for them.
	Push        string
	PushPrivate bool
	PushCA      string
	// Mail is the server that mail to people goes through, empty for none, MailFrom the sender; see mail.Open.
	Mail, MailFrom, MailPasswordFile string
	// NoReminders sends no mail by itself to people who have no second factor yet.
	NoReminders bool
	// TLSCert and TLSKey are PEM files; without them a self-signed certificate is made where TLS is needed.
	TLSCert, TLSKey string
	// RADIUS are the addresses for authentication.
	RADIUS []string
	// Accounting are the addresses for accounting.
	Accounting []string
	// RADIUSTLS are the addresses for both over TLS. RADIUSTLSOptional goes on without them where the operating system
	// does not let us listen there.
	RADIUSTLS         []string
	RADIUSTLSOptional bool
	// RADIUSDTLS are the addresses for both over DTLS, with RADIUSDTLSOptional alike.
	RADIUSDTLS         []string
	RADIUSDTLSOptional bool
	// TACACS and TACACSTLS are the addresses for TACACS+, over TCP and over TLS 1.3. TACACSOptional goes on without
	// them where the operating system does not let us listen there.
	TACACS, TACACSTLS []string
	TACACSOptional    bool
	// DHCP, SyslogUDP, SyslogTCP and SyslogTLS are the addresses for reports of who is where.
	DHCP, SyslogUDP, SyslogTCP, SyslogTLS []string
	// NodeAddress is host and port at which other nodes reach this one; its engine takes the next port. It is
	// listened at only where there are several.
	NodeAddress string
	// Join is an invitation: an empty data directory becomes that of a node beside others.
	Join string
	// Engine is the command line that runs the engine of a node; this program with the flag -run-engine if it is empty.
	Engine []string
	// Outside is an etcd cluster by which nodes share state instead; nil where each has an engine of its own.
	Outside *cluster.Outside
	// KeepAttempts is how long attempts are kept.
	KeepAttempts time.Duration
	// KeepJournal is how long the gear journal is kept.
	KeepJournal time.Duration
	// KeepAccounting is how long records of accounting are kept.
	KeepAccounting time.Duration
	// KeepSightings is how long it is kept who was where.
	KeepSightings time.Duration
	// KeepAudit is how long the audit is kept.
	KeepAudit time.Duration
	// RemoveAll removes whatever is older than that at once, even if it is more than a usual day's share.
	RemoveAll bool
	// Now is the time of the clock; time.Now if it is nil.
	Now func() time.Time
	Log *slog.Logger
}

func (o *Options) retention(keep time.Duration, clock *host.Clock) record.Retention {
	return record.Retention{Keep: keep, All: o.RemoveAll, Now: o.Now, Doubtful: clock.Doubtful}
}
