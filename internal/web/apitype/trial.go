package apitype

import (
	"time"

	"tollgate.example/key/internal/core/config"
	"tollgate.example/key/internal/core/results"
)

// TrialInput is a sign-in to try, as a device behind one of the clients.
type TrialInput struct {
	Client     string             `json:"client" maxLength:"200" doc:"Client through which it comes, by name"`
	Method     string             `json:"method" maxLength:"50" doc:"One of the methods"`
	User       string             `json:"user" maxLength:"253" doc:"Name, or the MAC address for MAC bypass"`
	Password   string             `json:"password,omitempty" required:"false" maxLength:"256"`
	Code       string             `json:"code,omitempty" required:"false" maxLength:"256" doc:"Answers a question for a one-time code (Access-Challenge)"`
	New        string             `json:"newPassword,omitempty" required:"false" maxLength:"256" doc:"What an expired password is changed to, by MS-CHAPv2 in EAP"`
	Outer      string             `json:"outer,omitempty" required:"false" maxLength:"253" doc:"Name shown outside the tunnel"`
	Bypass     string             `json:"bypass,omitempty" required:"false" doc:"How MAC bypass is sent: pap, chap or eap-md5"`
	Attributes []config.Attribute `json:"attributes,omitempty" required:"false" maxItems:"40" doc:"Further attributes of the request"`
	CA         string             `json:"ca,omitempty" required:"false" maxLength:"262144" doc:"Authority that the device trusts, PEM; empty takes any certificate"`
	ServerName string             `json:"serverName,omitempty" required:"false" maxLength:"253" doc:"Name that the server certificate must carry"`
	TLS        string             `json:"tls,omitempty" required:"false" doc:"The only version the device speaks: 1.0, 1.1, 1.2 or 1.3"`
	Resume     bool               `json:"resume,omitempty" required:"false" doc:"Keep the TLS ticket, and use it if there is one"`

	Certificate        string `json:"certificate,omitempty" required:"false" maxLength:"262144" doc:"Client certificate, PEM"`
	Key                string `json:"key,omitempty" required:"false" maxLength:"65536" doc:"Its key, PEM"`
	Machine            string `json:"machine,omitempty" required:"false" maxLength:"253" doc:"TEAP: name of the computer, host/NAME"`
	MachineCertificate string `json:"machineCertificate,omitempty" required:"false" maxLength:"262144"`
	MachineKey         string `json:"machineKey,omitempty" required:"false" maxLength:"65536"`
}

// TrialResult is what came of it.
type TrialResult struct {
	At time.Time `json:"at"`
	results.Reply
}
