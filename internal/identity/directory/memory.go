package directory

import (
	"strings"
	"sync"
	"time"

	"tollgate.example/key/internal/core/facts"
)

// maxRemembered bounds the people that are remembered.
const maxRemembered = 50_000

// memory keeps what was found of people for a short time, so that somebody who signs in again does not cost two
// searches. Only those who may sign in are kept: whoever is unknown, locked or disabled is looked up each time.
type memory struct {
	mu     sync.Mutex
	people map[string]remembered
}

type remembered struct {
	person *facts.Person
	until  time.Time
}

func (m *memory) get(name string) *facts.Person {
	m.mu.Lock()
	defer m.mu.Unlock()
	found, ok := m.people[strings.ToLower(name)]
	if !ok || time.Now().After(found.until) {
		return nil
	}
	copied := *found.person // attempts own their facts; the lists inside are only read
	return &copied
}

func (m *memory) put(name string, person *facts.Person, life time.Duration) {
	m.mu.Lock()
	defer m.mu.Unlock()
	if m.people == nil || len(m.people) >= maxRemembered {
		m.people = map[string]remembered{}
	}
	m.people[strings.ToLower(name)] = remembered{person, time.Now().Add(life)}
}

// forget drops one name, or all with an empty name, and tells how many there were.
func (m *memory) forget(name string) int {
	m.mu.Lock()
	defer m.mu.Unlock()
	if name == "" {
		n := len(m.people)
		m.people = nil
		return n
	}
	name = strings.ToLower(name)
	if _, ok := m.people[name]; !ok {
		return 0
	}
	delete(m.people, name)
	return 1
}

// Forget drops what is remembered of one person by the name given to the stores, or of everybody and of the groups with
// an empty name. It tells how many people there were.
func (d *Directory) Forget(name string) int {
	if name == "" {
		d.groups.forget()
		d.book.forget()
	}
	return d.people.forget(name)
}
