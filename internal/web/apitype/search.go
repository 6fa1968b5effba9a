package apitype

import "tollgate.example/key/internal/core/config"

// Uses are the faults that a draft would have without an object: each is a place where it is used.
type Uses struct {
	Items []config.Problem `json:"items"`
}

// Answer is one object that a search found.
type Answer struct {
	Kind string `json:"kind" doc:"What it is: client, lane, account, device, session, attempts ..."`
	ID   string `json:"id" doc:"Its identifier; empty for attempts, which are a list"`
	Name string `json:"name"`
	Note string `json:"note" doc:"What tells it apart: addresses, owner, where a session is"`
	Page string `json:"page" doc:"Its page in the console"`
}

// Answers are what a search found, the best first.
type Answers struct {
	Items []Answer `json:"items"`
}
