package apitype

import "time"

// FeedFields are what can be edited of a feed.
type FeedFields struct {
	Name        string   `json:"name" required:"false" maxLength:"200" example:"security-desk"`
	Enabled     bool     `json:"enabled" required:"false"`
	Records     []string `json:"records" required:"false" doc:"What is sent on: attempts, accounting, journal, audit"`
	To          string   `json:"to" required:"false" enum:"syslog-udp,syslog-tcp,syslog-tls,file" default:"syslog-tls"`
	Address     string   `json:"address" required:"false" maxLength:"260" doc:"syslog: host:port of the receiver; 514, or 6514 with TLS, if no port is given"`
	CA          string   `json:"ca" required:"false" maxLength:"262144" doc:"syslog-tls: PEM of the authority of its certificate; empty trusts those of the system"`
	ServerName  string   `json:"serverName" required:"false" maxLength:"253" doc:"syslog-tls: name that its certificate must carry, if not the host"`
	Certificate string   `json:"certificate" required:"false" maxLength:"200" doc:"syslog-tls: certificate of ours to show; empty shows none"`
	Facility    int      `json:"facility" required:"false" doc:"syslog: facility, 0 to 23; 0 is 10, security"`
	File        string   `json:"file" required:"false" maxLength:"100" doc:"file: its name in the directory feeds of the data directory, without .jsonl"`
	Megabytes   int      `json:"megabytes" required:"false" doc:"file: size after which another file is begun; 0 is 100"`
	Keep        int      `json:"keep" required:"false" doc:"file: how many files are kept; 0 is 10"`
	Verdict     string   `json:"verdict" required:"false" enum:",admitted,refused" doc:"Only what came out so"`
	Client      string   `json:"client" required:"false" maxLength:"200" doc:"Only of these clients; * stands for any characters"`
	Who         string   `json:"who" required:"false" maxLength:"200" doc:"Only of these people; * stands for any characters"`
	Lane        string   `json:"lane" required:"false" maxLength:"200" doc:"Only of these lanes; * stands for any characters"`
	Note        string   `json:"note" required:"false" maxLength:"4000"`
}

// Feed is a feed with how far it has come.
type Feed struct {
	Meta
	FeedFields
	States []FeedState `json:"states" doc:"How far each kind of record has been sent; empty unless the feed is in effect"`
}

// FeedState is how far records have been sent on.
type FeedState struct {
	Records string    `json:"records"`
	Sent    int64     `json:"sent" doc:"Since the service started"`
	Passed  int64     `json:"passed" doc:"Records that the filter did not select"`
	GivenUp int64     `json:"givenUp" doc:"Records that the other side does not take"`
	At      time.Time `json:"at,omitzero" doc:"Time of the last record that was looked at"`
	Behind  bool      `json:"behind" doc:"There are newer ones"`
	Fault   string    `json:"fault,omitempty" doc:"Why nothing is sent"`
	Since   time.Time `json:"since,omitzero" doc:"Since when"`
}
