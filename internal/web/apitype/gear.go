package apitype

import (
	"time"

	"tollgate.example/key/internal/core/config"
	"tollgate.example/key/internal/core/results"
)

// CommandListFields are what can be edited of a command list.
type CommandListFields struct {
	Name      string               `json:"name" required:"false" maxLength:"200" example:"operators"`
	Lines     []config.CommandLine `json:"lines" required:"false" doc:"In order; the first that fits decides"`
	Extends   []string             `json:"extends" required:"false" doc:"Lists whose lines follow"`
	Otherwise string               `json:"otherwise" required:"false" enum:",permit,refuse" doc:"For commands that no line fits; empty goes by the lists that are extended, and refuses if none says"`
	Note      string               `json:"note" required:"false" maxLength:"4000"`
}

// CommandList is a command list.
type CommandList struct {
	Meta
	CommandListFields
	UsedBy []string `json:"usedBy" doc:"Passes and lists that name it"`
	Whole  int      `json:"whole" doc:"Lines with those of the lists that are extended"`
}

// CommandTrialInput asks which lines decide, in a list as it is being typed.
type CommandTrialInput struct {
	CommandListFields
	Commands []string `json:"commands" maxItems:"200" doc:"Commands as somebody would type them"`
}

// CommandTrial is the verdict on one command.
type CommandTrial struct {
	Command string `json:"command"`
	Verdict string `json:"verdict" enum:"permit,refuse"`
	List    string `json:"list" doc:"List that the line stands in"`
	Line    int    `json:"line" doc:"From 1; 0 if no line fits"`
	Pattern string `json:"pattern"`
}

// WholeLine is one line of a list with everything that it extends.
type WholeLine struct {
	Verdict string `json:"verdict" enum:"permit,refuse"`
	Pattern string `json:"pattern"`
	List    string `json:"list"`
	Line    int    `json:"line"`
	Example string `json:"example" doc:"A command that this line decides; empty if there is none"`
}

// CommandTrials is what a list does.
type CommandTrials struct {
	Commands  []CommandTrial    `json:"commands"`
	Lines     []WholeLine       `json:"lines"`
	Otherwise string            `json:"otherwise" enum:"permit,refuse"`
	Findings  []results.Finding `json:"findings"`
	Problems  []Fault           `json:"problems" doc:"Lines that cannot be read; they are left out"`
}

// JournalEntry is one entry of the gear journal.
type JournalEntry struct {
	Node     string    `json:"node,omitempty" doc:"Node that recorded it, where there are several"`
	ID       string    `json:"id"`
	At       time.Time `json:"at"`
	Kind     string    `json:"kind" doc:"login, enable, password, shell, command or another service; start, stop or update for what the gear reported"`
	What     string    `json:"what" doc:"The kind in words: command, enable, level 15; of what the gear reported, of what too: shell start, command stop"`
	Client   string    `json:"client"`
	User     string    `json:"user"`
	Person   string    `json:"person"`
	From     string    `json:"from"`
	Port     string    `json:"port"`
	Command  string    `json:"command"`
	Verdict  string    `json:"verdict" doc:"admitted or refused; empty for what the gear reported"`
	Reason   string    `json:"reason"`
	Sentence string    `json:"sentence"`
	Pass     string    `json:"pass"`
	Line     string    `json:"line" doc:"Line of the command list that decided"`
	Level    int       `json:"level"`
	Task     string    `json:"task" doc:"Joins start, updates and stop"`
	Args     []string  `json:"args"`
	Trial    bool      `json:"trial"`
	Attempt  string    `json:"attempt,omitempty" doc:"The attempt with its road, where one entry is asked for"`
}

// GearTrialInput asks one thing over TACACS+ as a client would.
type GearTrialInput struct {
	Client   string   `json:"client" maxLength:"200" doc:"Client through which it comes, by name"`
	Ask      string   `json:"ask" maxLength:"60" doc:"login, enable, password, shell, command, start, stop, update, or a service such as ppp"`
	Method   string   `json:"method,omitempty" required:"false" enum:",ascii,pap,chap,mschap,mschapv2"`
	User     string   `json:"user" maxLength:"253"`
	Password string   `json:"password,omitempty" required:"false" maxLength:"250"`
	Code     string   `json:"code,omitempty" required:"false" maxLength:"20" doc:"One-time code: typed when one is asked for, behind the password in PAP"`
	New      string   `json:"newPassword,omitempty" required:"false" maxLength:"250"`
	Level    int      `json:"level,omitempty" required:"false" minimum:"0" maximum:"15"`
	Port     string   `json:"port,omitempty" required:"false" maxLength:"200"`
	From     string   `json:"from,omitempty" required:"false" maxLength:"60" doc:"Address that the person comes from"`
	Command  string   `json:"command,omitempty" required:"false" maxLength:"1000"`
	Args     []string `json:"args,omitempty" required:"false" maxItems:"60" doc:"Further arguments, NAME=VALUE or NAME*VALUE"`
}

// GearTrialResult is what came of it.
type GearTrialResult struct {
	At time.Time `json:"at"`
	results.GearReply
	Fault string `json:"fault,omitempty" doc:"Why there was no answer"`
}

// Sealed is an emergency account that was sealed, with its new password, which is shown only here.
type Sealed struct {
	Account  Account `json:"account"`
	Password string  `json:"password"`
}
