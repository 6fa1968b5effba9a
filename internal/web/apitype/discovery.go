package apitype

import "tollgate.example/key/internal/core/results"

// Discovery is what is known of a directory before it is connected.
type Discovery struct {
	Text     string `json:"text" maxLength:"500" doc:"Host, address, URL, domain, or a name@domain"`
	DNS      string `json:"dns,omitempty" required:"false" maxLength:"400" doc:"DNS servers to ask, separated by commas; empty asks those of the operating system"`
	Source   string `json:"source,omitempty" required:"false" maxLength:"100" doc:"Address to connect from"`
	BindName string `json:"bindName,omitempty" required:"false" maxLength:"500"`
	Password string `json:"bindPassword,omitempty" required:"false" maxLength:"1024" doc:"Sent only to a server that is trusted"`
	CA       string `json:"ca,omitempty" required:"false" maxLength:"262144" doc:"What is trusted already, PEM"`
}

// Proposal is what discovery found.
type Proposal struct{ results.Proposal }
