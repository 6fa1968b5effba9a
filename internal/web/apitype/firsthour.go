package apitype

import "tollgate.example/key/internal/core/config"

// FirstHour is what a new installation still lacks until its first device is admitted.
type FirstHour struct {
	Steps []FirstStep `json:"steps"`
	// Remains tells that something is left to do, Done how many steps are.
	Remains bool `json:"remains"`
	Done    int  `json:"done"`

	Realm      *config.Realm `json:"realm,omitempty" doc:"Proposed realm, as long as there is none"`
	ServerName string        `json:"serverName" doc:"Proposed name of the server certificate"`
	Methods    []string      `json:"methods" doc:"Methods that everybody of the realm can use, the strongest first"`
	Servers    []Listener    `json:"servers" doc:"Where this service is asked"`
	Strangers  []string      `json:"strangers" doc:"Addresses that ask and are no client"`
	Attempt    *Attempt      `json:"attempt,omitempty" doc:"The last attempt"`
	KeyFile    string        `json:"keyFile" doc:"Where the key file lies on the machine"`
}

// FirstStep is one step of the first hour.
type FirstStep struct {
	Key    string `json:"key" enum:"people,names,certificate,results,client,seen,keeping"`
	Title  string `json:"title"`
	State  string `json:"state" enum:"done,off,now,later"`
	Text   string `json:"text"`
	Detail string `json:"detail"`
	Page   string `json:"page" doc:"Page of the console with more of it"`
}

// Listener is an address at which the service is asked.
type Listener struct {
	What    string `json:"what" doc:"RADIUS, RADIUS accounting, RADIUS over TLS, TACACS+ ..."`
	Address string `json:"address"`
	Port    uint16 `json:"port"`
}

// FirstCertificate names the server certificate that is made with an authority of our own.
type FirstCertificate struct {
	Name string `json:"name" maxLength:"200" doc:"DNS name by which devices recognise this server"`
}

// FirstResults says who gets which VLAN.
type FirstResults struct {
	Rows   []FirstRow `json:"rows" maxItems:"100"`
	Others string     `json:"others,omitempty" required:"false" maxLength:"4" doc:"VLAN of everybody else; empty refuses them"`
	Ports  string     `json:"ports" enum:"wired,wireless,any" doc:"Which ports"`
}

// FirstRow gives the people of a group a VLAN.
type FirstRow struct {
	Group     string `json:"group" maxLength:"500"`
	Directory string `json:"directory,omitempty" required:"false" maxLength:"200" doc:"Directory of the group; empty for a group of local accounts"`
	ID        string `json:"id,omitempty" required:"false" maxLength:"500" doc:"What identifies the group there"`
	VLAN      string `json:"vlan" maxLength:"40"`
}

// FirstPutOff puts a step off or takes it up again.
type FirstPutOff struct {
	Off bool `json:"off"`
}
