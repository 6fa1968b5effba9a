package operator

import (
	"fmt"
	"strings"
)

// Role is what an operator is here for.
type Role string

// Roles.
const (
	Owner     Role = "owner"
	Engineer  Role = "engineer"
	Helpdesk  Role = "helpdesk"
	Reception Role = "reception"
	Auditor   Role = "auditor"

	enrolling Role = "enrolling"
)

// Roles are all of them, with the most first.
var Roles = []Role{Owner, Engineer, Helpdesk, Reception, Auditor}

// Right is one thing that roles allow.
type Right uint8

const (
	// Nothing is allowed to nobody. It is what a call has that no right was given.
	Nothing Right = iota
	// Anyone may, without being signed in.
	Anyone
	// Enrol is to sign out, and to enrol a second factor of one's own.
	Enrol
	// Self is one's own session, tokens and password.
	Self
	// Watch is to see attempts, sessions, people, devices and second factors.
	Watch
	// Assist is to change people, devices and second factors, and to end sessions.
	Assist
	// Read is to see the configuration, without secrets, and the gear journal.
	Read
	// Configure is to change and publish the configuration.
	Configure
	// Own is to say who may administer, and to make backups.
	Own

	lastRight
)

var rightTitles = [lastRight]string{
	Anyone:    "anyone",
	Enrol:     "enrol",
	Self:      "self",
	Watch:     "watch",
	Assist:    "assist",
	Read:      "read",
	Configure: "configure",
	Own:       "own",
}

func (r Right) String() string { return rightTitles[r] }

// allowed is the one place that says which role may do what.
var allowed = map[Role][lastRight]bool{
	Owner:     rights(Anyone, Enrol, Self, Watch, Assist, Read, Configure, Own),
	Engineer:  rights(Anyone, Enrol, Self, Watch, Assist, Read, Configure),
	Helpdesk:  rights(Anyone, Enrol, Self, Watch, Assist),
	Reception: rights(Anyone, Enrol, Self),
	Auditor:   rights(Anyone, Enrol, Self, Watch, Read),
	// whoever needs a second factor and has not shown one may enrol it, and nothing else
	enrolling: rights(Anyone, Enrol),
}

func rights(list ...Right) (out [lastRight]bool) {
	for _, r := range list {
		out[r] = true
	}
	return out
}

// May reports whether a role allows something. An unknown role allows nothing.
func (r Role) May(right Right) bool { return right < lastRight && allowed[r][right] }

// Rights are what a role allows, in words.
func (r Role) Rights() []string {
	out := []string{}
	for right := Self; right < lastRight; right++ {
		if r.May(right) {
			out = append(out, right.String())
		}
	}
	return out
}

// Holders names the roles that allow something.
func (r Right) Holders() string {
	var names []string
	for _, role := range Roles {
		if role.May(r) {
			names = append(names, string(role))
		}
	}
	return strings.Join(names, ", ")
}

// ParseRole reads the name of a role; empty is an engineer's.
func ParseRole(text string) (Role, error) {
	if text == "" {
		return Engineer, nil
	}
	for _, r := range Roles {
		if strings.EqualFold(text, string(r)) {
			return r, nil
		}
	}
	return "", fmt.Errorf("%w: %q is none of owner, engineer, helpdesk, reception, auditor", ErrRole, text)
}
