// Package reporter tells presence who is signed in on a host, while it changes: a workstation, where one person sits,
// or a shared host, where the connections of each person come from a block of ports of that person's own.
package reporter

import (
	"context"
	"time"
)

// Session is somebody who is signed in on this host.
type Session struct {
	UID  uint32
	Name string
	// Remote tells that the person is not at the host but came over the network.
	Remote bool
	Since  time.Time
}

// Sessions tells who is signed in. What an operating system has for that is behind it.
type Sessions interface {
	// List lists the sessions of people.
	List(ctx context.Context) ([]Session, error)
	// Changed gets a value when somebody signed in or out; several changes may be one value.
	Changed() <-chan struct{}
	Close() error
}

// Person is somebody to be told of.
type Person struct {
	UID   uint32
	Name  string
	Since time.Time
}

// People are those of sessions who are to be told of: each once, since the first sign-in. Accounts below a number are
// those of the system. On a workstation only those count who are at it.
func People(list []Session, least uint32, shared bool) []Person {
	var out []Person
	at := map[uint32]int{}
	for _, s := range list {
		if s.UID < least || s.Remote && !shared {
			continue
		}
		i, known := at[s.UID]
		switch {
		case !known:
			at[s.UID] = len(out)
			out = append(out, Person{s.UID, s.Name, s.Since})
		case s.Since.Before(out[i].Since):
			out[i].Since = s.Since
		}
	}
	return out
}
