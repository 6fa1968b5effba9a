package lab

import (
	"cmp"
	"context"
	"fmt"
	"net/http"
	"net/netip"
	"time"

	"tollgate.example/key/internal/core/calendar"
	"tollgate.example/key/internal/core/config"
	"tollgate.example/key/internal/web/apitype"
	"tollgate.example/key/internal/web/client"
)

// The operator of the demo, and a client and a person that anybody may play.
const (
	OperatorName     = "o.brandt"
	OperatorPassword = "lantern-demo-2026"
	PlayerUser       = "s.lodge"
	playerAddress    = "127.0.10.99"
	playerSecret     = "gangway-and-bollard-99"
	strangerAddress  = "127.0.10.77"
)

// device is a client of the demo.
type device struct {
	name, address, secret, shown, mode string
	tags                               map[string]string
	// gear is the secret for TACACS+, "" for none.
	gear string
}

var devices = []device{
	{"np-switch-1", "127.0.10.11", "quay-light-np-7F3q", "192.0.2.11", "require",
		map[string]string{"site": "north-pier", "kind": "switch"}, "mooring-np-4Jt8"},
	{"sp-switch-1", "127.0.10.12", "quay-light-sp-2Hd9", "192.0.2.12", "require",
		map[string]string{"site": "south-pier", "kind": "switch"}, ""},
	{
		"heron-switch-1",
		"127.0.10.13",
		"quay-light-hn-8Kw4",
		"198.51.100.13",
		"auto",
		map[string]string{"site": "heron",
			"kind": "switch"},
		"",
	},
	{
		"np-wlan-1",
		"127.0.10.31",
		"quay-light-wl-5Tz1",
		"192.0.2.31",
		"require",
		map[string]string{"site": "north-pier",
			"kind": "wlan"},
		"",
	},
	{"hh-vpn-1", "127.0.10.41", "quay-light-vp-3Rm6", "203.0.113.41", "require",
		map[string]string{"site": "harbour-house", "kind": "vpn"}, ""},
	{"hh-firewall-1", "127.0.10.42", "quay-light-fw-6Ny2", "203.0.113.42", "require",
		map[string]string{"site": "harbour-house", "kind": "firewall"}, ""},
	{"hh-router-1", "127.0.10.43", "quay-light-rt-9Bc5", "203.0.113.43", "require",
		map[string]string{"site": "harbour-house", "kind": "router"}, "mooring-rt-7Xc2"},
	{"hh-core-1", "127.0.10.44", "quay-light-cr-1Gd7", "203.0.113.44", "require",
		map[string]string{"site": "harbour-house", "kind": "switch", "tier": "core"}, "mooring-cr-5Wk8"},
	{"hh-desk-1", DeskAddress, DeskSecret, "203.0.113.45", "require",
		map[string]string{"site": "harbour-house", "kind": "desktop"}, ""},
	{"bench-1", playerAddress, playerSecret, "192.0.2.99", "auto", map[string]string{"site": "north-pier",
		"kind": "switch"}, playerSecret},
}

// Switches are the three that ask by themselves.
func Switches() []Station {
	return []Station{station("np-switch-1"), station("sp-switch-1"), station("heron-switch-1")}
}

// station is a client of the demo as one that asks.
func station(name string) Station {
	for _, d := range devices {
		if d.name == name {
			return Station{Name: d.name, Kind: d.tags["kind"], Addr: mustAddr(d.address), Secret: d.secret,
				Shown: d.shown}
		}
	}
	panic("lab: there is no client " + name)
}

// Outside is what of the demo lies outside of the service.
type Outside struct {
	// Servers are those of the directory, Authority the one that issued their certificates, as PEM.
	Servers   []string
	Authority string
	// DNS is the DNS server of its domain, "" for that of the operating system.
	DNS string
	// Logs is the receiver of syslog, "" for none.
	Logs string
	// Provider is the identity provider, "" for none, and Console where it sends browsers back to.
	Provider, Console string
	// Partner is the remote RADIUS server, "" for its usual address.
	Partner string
}

// SetUp configures a fresh service as Lantern Ferries', and gives the client a token.
func SetUp(ctx context.Context, c *client.Client, code string, o Outside) error {
	if err := c.Do(ctx, http.MethodPost, "/setup", apitype.SetupInput{Code: code, Name: OperatorName,
		Password: OperatorPassword}, nil); err != nil {
		return fmt.Errorf("creating the operator of the demo: %w", err)
	}
	var signed apitype.SignedIn
	if err := c.Do(ctx, http.MethodPost, "/sign-in", apitype.SignInInput{Name: OperatorName,
		Password: OperatorPassword, TokenName: "demo"}, &signed); err != nil {
		return fmt.Errorf("signing in: %w", err)
	}
	c.Token = signed.Token
	s := &setup{ctx: ctx, c: c, partner: cmp.Or(o.Partner, PartnerAddress)}
	for _, d := range devices {
		s.add("/clients", apitype.ClientInput{Secret: d.secret, TACACSSecret: d.gear,
			ClientFields: apitype.ClientFields{Name: d.name, Enabled: true, Addresses: []string{d.address},
				MessageAuthenticator: d.mode, Tags: d.tags}})
	}
	s.add("/directories", apitype.DirectoryInput{BindPassword: ServicePassword,
		DirectoryFields: apitype.DirectoryFields{Name: NetBIOS, Kind: "active-directory", Servers: o.Servers,
			TLS: "ldaps", CA: o.Authority, BindName: ServiceName + "@" + Domain, Attributes: []string{"department",
				"physicalDeliveryOfficeName"}, TimeoutMillis: 3000, CacheSeconds: new(60), DNS: o.DNS,
			Groups: pickedGroups(), CopyBelow: []string{"OU=People," + BaseDN}, CopyWanted: []string{"mobile"},
			CopyMinutes: 60}})
	s.add("/realms", apitype.RealmFields{Name: "shore", Forms: []config.Form{{Kind: config.Suffix, Value: Domain},
		{Kind: config.Prefix, Value: NetBIOS}, {Kind: config.Bare}},
		Rewrite: "{name}", Lookup: []config.Lookup{{Store: NetBIOS, Unreachable: config.Next},
			{Store: config.LocalStore, Unreachable: config.Refuse}}})
	s.add("/realms", apitype.RealmFields{Name: "ships",
		Forms: []config.Form{{Kind: config.Suffix, Value: shipsDomain}}, Rewrite: "{name}",
		Lookup: []config.Lookup{{Store: config.LocalStore, Unreachable: config.Refuse}}})
	s.publish("Clients, directory and realms")
	s.certificates()
	s.firewall()
	s.ship()
	s.publish("Our own authority, and certificates to show")
	s.passes()
	s.lanes()
	s.publish("Lanes for ports, Wi-Fi, VPN and device logins")
	s.accounts()
	s.phones()
	s.knownDevices()
	s.feeds(o.Logs)
	s.operators(o)
	return s.err
}

// operators are those beside the first, one for each role, with the same password.
func (s *setup) operators(out Outside) {
	for _, o := range [][2]string{{"s.lindqvist", "owner"}, {"e.marsh", "engineer"}, {"h.ward", "helpdesk"},
		{"k.north", "helpdesk"}, {"r.teal", "reception"}, {"a.quill", "auditor"}} {
		s.add("/operators", apitype.OperatorInput{Name: o[0], Password: OperatorPassword, Role: o[1]})
	}
	s.put("/operators/k.north", apitype.RoleInput{Role: "helpdesk", Clients: []string{"site=north-pier"}})
	settings := apitype.OperatorSettings{SecondFactor: []string{}, IdleMinutes: 60, LastHours: 12,
		Groups: []apitype.GroupRole{{Directory: NetBIOS, Group: "Network Team", Role: "engineer"}}}
	if out.Provider != "" {
		settings.Provider = &apitype.Provider{
			Issuer:   out.Provider,
			ClientID: ProviderClient,
			Secret:   ProviderSecret,
			Console:  out.Console,
			Label:    "Harbour sign-on",
			Groups: []apitype.GroupRole{
				{Group: "Network Engineers", Role: "engineer"}, {Group: "Security Audit", Role: "auditor"}},
		}
	}
	s.put("/operator-settings", settings)
	s.put("/first-hour/keeping", apitype.FirstPutOff{Off: true})
}

// feeds send records on to the security desk, and keep the journal of the gear in files.
func (s *setup) feeds(logs string) {
	if logs == "" {
		return
	}
	s.add("/feeds", apitype.FeedFields{Name: "security-desk", Enabled: true, To: config.FeedTCP, Address: logs,
		Records: []string{config.FeedAttempts, config.FeedJournal}, Verdict: "refused",
		Note: "Everything that was refused."})
	s.add("/feeds", apitype.FeedFields{Name: "sessions", Enabled: true, To: config.FeedFile,
		Records: []string{config.FeedAccounting}, Megabytes: 10, Keep: 5})
	s.publish("Records for the security desk")
}

func portOf(address string) int {
	at, err := netip.ParseAddrPort(address)
	if err != nil {
		return 0
	}
	return int(at.Port())
}

// setup makes calls until one fails.
type setup struct {
	ctx     context.Context
	c       *client.Client
	err     error
	partner string
}

func (s *setup) add(path string, in any) {
	if s.err == nil {
		if err := s.c.Do(s.ctx, http.MethodPost, path, in, nil); err != nil {
			s.err = fmt.Errorf("adding to %s: %w", path, err)
		}
	}
}

// put puts something in place of what is there.
func (s *setup) put(path string, in any) {
	if s.err == nil {
		if err := s.c.Do(s.ctx, http.MethodPut, path, in, nil, client.IfMatch("*")); err != nil {
			s.err = fmt.Errorf("changing %s: %w", path, err)
		}
	}
}

func (s *setup) publish(note string) { s.add("/draft/publish", map[string]string{"note": note}) }

func (s *setup) passes() {
	s.add("/calendars", apitype.CalendarFields{Name: "opening-hours", Zone: "Europe/Lisbon",
		Holidays: []calendar.Holiday{
			{Date: "2026-12-25", Name: "Christmas"},
			{Date: "2027-01-01", Name: "New Year"},
		},
		Spans: []calendar.Span{{Days: calendar.Days[:5], From: "06:00", To: "22:00"}, {Days: calendar.Days[5:],
			From: "08:00", To: "24:00"}}, Note: "When the counters sell tickets."})
	s.add("/pools", apitype.PoolFields{Name: "vpn", Ranges: []string{"203.0.113.64/26"},
		Note: "Crew who work from home."})
	s.add("/vendors", apitype.VendorFields{Name: "Harbour Instruments", Number: 32473, TypeOctets: 1,
		LengthOctets: new(1), Note: "The number that is kept for examples (RFC 5612).",
		Attributes: []config.VendorAttribute{
			{Number: 1, Name: "Harbour-Role", Type: "text", Values: []config.NamedValue{}},
			{
				Number: 2,
				Name:   "Harbour-Level",
				Type:   "integer",
				Values: []config.NamedValue{{Number: 1, Name: "guest"},
					{Number: 7, Name: "crew"}, {Number: 15, Name: "bridge"}},
			},
			{Number: 3, Name: "Harbour-Rate-Down", Type: "integer", Means: config.RateDown, Unit: 1,
				Values: []config.NamedValue{}},
			{Number: 4, Name: "Harbour-Rate-Up", Type: "integer", Means: config.RateUp, Unit: 1,
				Values: []config.NamedValue{}}}})
	s.commandLists()
	for _, p := range []apitype.PassFields{
		{Name: "ticketing", VLAN: "20", SessionTimeout: 28800, Role: "ticketing"},
		{Name: "officers", VLAN: "30", SessionTimeout: 28800, Role: "crew"},
		{Name: "operations", VLAN: "40", SessionTimeout: 28800, Role: "operations"},
		{Name: "engine-room", VLAN: "50", SessionTimeout: 28800, Role: "crew"},
		{Name: "bridge", Extends: "officers", ReportName: "{{person.mail}}", AtTimeout: string(config.SignInAgain),
			Attributes: []config.Attribute{{Name: "Harbour-Level", Value: "bridge"}}, Note: "Officers on watch."},
		{Name: "contractors", VLAN: "60", SessionTimeout: 14400, IdleTimeout: 900, Role: "restricted"},
		{Name: "network-admin", PrivilegeLevel: "15", Commands: "everything",
			Attributes: []config.Attribute{{Name: "Service-Type", Value: "Administrative"}}},
		{Name: "gear-operators", PrivilegeLevel: "7", Commands: "operators", SessionTimeout: 3600, IdleTimeout: 600,
			Arguments:  []config.Argument{{Name: "nohangup", Value: "false", Optional: true}},
			Attributes: []config.Attribute{{Name: "Service-Type", Value: "NAS-Prompt"}},
			Note:       "Looking, and switching ports."},
		{Name: "printers", VLAN: "80", Role: "printers"},
		{Name: "visitors", VLAN: "90", SessionTimeout: 7200, Role: "internet-only", RateDown: 20000, RateUp: 5000},
		{Name: "vpn-crew", Extends: "officers", Pool: "vpn", IdleTimeout: 1800},
		{Name: "holding", VLAN: "99", SessionTimeout: 600, Note: "People nobody has sorted yet."},
	} {
		s.add("/passes", p)
	}
}

func (s *setup) lanes() {
	admit := func(name, when, pass string) *config.Policy {
		return &config.Policy{Name: name, Enabled: true, When: when, Outcome: config.Admit, Pass: pass}
	}
	pap := []string{"pap"}
	s.add(
		"/lanes",
		apitype.LaneFields{Name: "Core gear", When: "client.tier is core and service in device-login, " +
			"device-command", Methods: pap, Realm: "shore", RejectDelayMillis: 1000, SecondFactor: config.OneTimeCode,
			FactorRestMinutes: 10,
			Policies: []*config.Policy{admit("Network team", `group is "Network Team"`, "network-admin"),
				admit(
					"Emergency",
					"kind is emergency",
					"network-admin",
				)}, Note: "A password alone is not enough here."},
	)
	s.add("/lanes", apitype.LaneFields{Name: "Device logins", When: "service in device-login, device-command",
		Methods: pap, Realm: "shore", RejectDelayMillis: 1000,
		Policies: []*config.Policy{admit("Network team", `group is "Network Team"`, "network-admin"),
			admit(
				"Port operations",
				`group is "Port Operations" and client.kind in switch, router`,
				"gear-operators",
			),
			admit("Emergency", "kind is emergency", "network-admin")}})
	inTLS := config.LaneTLS{Certificate: "radius", Trust: trustName, ResumeMinutes: 480}
	inAir := config.LaneTLS{Certificate: "radius-wlan", Trust: trustName, ResumeMinutes: 480}
	department := &config.Policy{Name: "By department", Enabled: true, When: "always", Outcome: config.Admit,
		Groups: []config.GroupRow{{Group: "Ticketing", Pass: "ticketing"},
			{Group: "Port Operations", Pass: "operations"}, {Group: "Engine Room", Pass: "engine-room"},
			{Group: "Network Team", Pass: "operations"}}}
	s.add("/lanes", apitype.LaneFields{Name: "VPN", When: "client.kind is vpn", Methods: []string{"eap-mschapv2",
		"mschapv2"},
		Realm: "ships", RejectDelayMillis: 1000,
		Policies: []*config.Policy{admit("Crew", `group is Crew`, "vpn-crew")}})
	s.add("/lanes", apitype.LaneFields{Name: "Printers and kiosks", When: "service is call-check",
		Methods: []string{"mac"}, RejectDelayMillis: 200,
		Policies: []*config.Policy{admit("Printers", "device.kind is printer", "printers"),
			admit("Kiosks", "device.kind is kiosk", "ticketing"),
			{Name: "Ticket gates", Enabled: true, When: "device.kind is gate and time is opening-hours",
				Outcome: config.Admit, Pass: "ticketing", Owner: "Ticketing", Note: "Closed at night."},
			{Name: "Cameras", Enabled: true, When: "device.kind is camera", Outcome: config.Refusal,
				Note: "They have a network of their own."}}})
	s.add("/lanes", apitype.LaneFields{Name: "Wi-Fi LF-Crew", When: "ssid is LF-Crew", Methods: []string{"ttls-pap",
		"eap-tls"}, Realm: "shore", TLS: inAir, RejectDelayMillis: 1000,
		Policies: []*config.Policy{admit("Deck officers", `group is "Deck Officers"`, "officers"), department,
			admit("Harbour office", `group is "Harbour Office"`, "operations")}})
	s.add("/lanes", apitype.LaneFields{Name: "Wi-Fi LF-Deck", When: "ssid is LF-Deck", Methods: []string{"eap-tls"},
		Realm: "shore", TLS: inAir, RejectDelayMillis: 1000,
		Policies: []*config.Policy{admit("All crew and shore staff", `group is "Lantern Ferries"`, "officers")}})
	s.add("/lanes", apitype.LaneFields{Name: "Wi-Fi LF-Visitors", When: "ssid is LF-Visitors",
		Methods: []string{"peap-mschapv2"}, Realm: "ships", TLS: inAir, RejectDelayMillis: 1000,
		Policies: []*config.Policy{admit("Visitors", "group is Visitors", "visitors")}})
	s.add(
		"/lanes",
		apitype.LaneFields{Name: "Wired ports", When: "port.type is Ethernet", Methods: []string{"eap-tls",
			"peap-gtc", "peap-mschapv2", "pap"}, Realm: "shore", TLS: inTLS, RejectDelayMillis: 1000, Follow: true,
			Policies: []*config.Policy{
				admit(
					"Office computers",
					`kind is computer and machine.group is "`+computersGroup+`"`,
					"operations",
				),
				admit("Deck officers", `group in "Deck Officers", Crew`, "officers"),
				department,
				{Name: "Contractors ashore", Enabled: true,
					When: `group is Contractors and client.site in north-pier, south-pier`, Outcome: config.Admit,
					Pass: "contractors", Owner: "Port Operations"},
				{Name: "Contractors aboard", Enabled: true, When: "group is Contractors", Outcome: config.Refusal,
					Message: "Contractors sign in ashore only."},
			}},
	)
	s.add(
		"/remotes",
		apitype.RemoteInput{Secret: partnerSecret, RemoteFields: apitype.RemoteFields{Name: PartnerName,
			Servers: []config.RemoteServer{
				{Address: s.partner},
			}, Accounting: true, AccountingPort: portOf(s.partner),
			Rules: []config.RemoteRule{
				{On: config.OnRequest, Do: config.RuleDrop, Attribute: "NAS-Port-Id"},
			},
			TimeoutMillis: 1000, Tries: 2,
			Grants: []string{"Tunnel-Type", "Tunnel-Medium-Type",
				"Tunnel-Private-Group-ID"}, Note: "Decides about the pilots and inspectors of the port."}},
	)
	s.add("/lanes", apitype.LaneFields{Name: "Guests of the port", When: "ssid is LF-Harbour and name.realm is " +
		PartnerRealm, Methods: []string{}, Forward: []string{PartnerName}, RejectDelayMillis: 1000,
		Policies: []*config.Policy{}})
	s.expectations()
	s.add("/lanes", apitype.LaneFields{Name: "Remote desktops", When: "client.kind is desktop", Methods: pap,
		Realm: "shore", RejectDelayMillis: 1000, SecondFactor: config.AnyFactor,
		Factor: config.LaneFactor{
			Text:  "Code from your phone, or enter {number} on it and press Enter:",
			When:  `not group is "Network Team"`,
			Until: time.Now().AddDate(0, 0, 14).Truncate(24 * time.Hour),
			Pass:  "holding",
		},
		Policies: []*config.Policy{admit("Staff", `group is "Lantern Ferries"`, "officers")},
		Note:     "Everybody sets a second factor up within two weeks."})
	s.add(
		"/lanes",
		apitype.LaneFields{Name: "Everything else", When: "always", Methods: pap, RejectDelayMillis: 1000,
			Policies: []*config.Policy{}, Note: "Nobody is admitted here; the refusal says so."},
	)
}

// expectations are what has to stay as it is, whatever is changed.
func (s *setup) expectations() {
	wired := []config.Attribute{{Name: "NAS-Port-Type", Value: "Ethernet"}}
	s.add("/overrides", apitype.OverrideFields{Name: "Anselm on the bridge", Person: "a.waldeck", Store: NetBIOS,
		Pass: "bridge", Owner: "Deck Officers", Note: "Relief master of MV Heron."})
	for _, e := range []apitype.ExpectationFields{
		{Name: "Ticketing at a counter", Sent: "s.lodge", Client: "np-switch-1", Method: "pap", Attributes: wired,
			Admitted: true, Pass: "ticketing", VLAN: "20"},
		{Name: "The relief master", Sent: "a.waldeck@" + Domain, Client: "heron-switch-1", Method: "peap-gtc",
			Attributes: wired, Admitted: true, Pass: "bridge", VLAN: "30"},
		{Name: "Contractors stay ashore", Sent: "f.brinkema", Client: "heron-switch-1", Method: "pap",
			Attributes: wired, Admitted: false, Reason: "policy.refused"},
		{Name: "Port operations cannot reload", Sent: "i.faramond", Client: "hh-router-1", Asks: "command",
			Command: "reload", Admitted: false},
	} {
		s.add("/expectations", e)
	}
}

func (s *setup) accounts() {
	expired := time.Date(2026, 6, 30, 0, 0, 0, 0, time.UTC)
	for _, a := range []apitype.AccountInput{
		{Password: "lighthouse-2026", AccountFields: apitype.AccountFields{Name: "night.watch", Display: "Night Watch",
			Groups: []string{"Port Operations"}, Enabled: true}},
		{Password: "turnstile-and-ticket", AccountFields: apitype.AccountFields{Name: "kiosk.test",
			Display: "Kiosk test", Groups: []string{"Ticketing"}, Enabled: false}},
		{Password: "drydock-and-crane", AccountFields: apitype.AccountFields{Name: "dock.temp",
			Display: "Dock temporary", Groups: []string{"Contractors"}, Enabled: true, Expires: &expired}},
		{Password: "welcome-aboard", AccountFields: apitype.AccountFields{Name: "visitor",
			Display: "Visitors of the day", Groups: []string{"Visitors"}, Enabled: true, Keeps: "nt-hash"}},
	} {
		s.add("/accounts", a)
	}
	s.add("/accounts", apitype.AccountInput{Password: EmergencyPassword,
		AccountFields: apitype.AccountFields{
			Name:      EmergencyUser,
			Display:   "Emergency, Harbour House",
			Enabled:   true,
			Emergency: "client.site is harbour-house",
		}})
	for _, c := range crew {
		s.add("/accounts", apitype.AccountInput{Password: crewPassword(c.user),
			AccountFields: apitype.AccountFields{Name: c.user, Display: c.name, Groups: []string{"Crew"},
				Enabled: true, Keeps: "nt-hash"}})
	}
}
