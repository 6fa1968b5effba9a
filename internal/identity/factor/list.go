package factor

import (
	"cmp"
	"slices"
	"strings"
	"time"
)

func (k *Keeper) get(id string) *kept {
	k.mu.RLock()
	defer k.mu.RUnlock()
	return k.byID[id]
}

// Get returns a token, nil if there is none.
func (k *Keeper) Get(id string) *Token {
	t := k.get(id)
	if t == nil {
		p := k.personOf(id)
		if p == nil {
			return nil
		}
		if list := p.list("", time.Now()); len(list) == 1 && list[0].ID == id {
			return &list[0]
		}
		return nil
	}
	t.of.mu.Lock()
	defer t.of.mu.Unlock()
	return t.view(time.Now())
}

// view is a device with what its person's have in common. The person is locked.
func (t *kept) view(now time.Time) *Token {
	out := t.Token
	out.Keyed = t.Kind == KindPhone && t.Credential != ""
	out.common(t.of.common, now)
	return &out
}

func (t *Token) common(c *common, now time.Time) {
	t.RecoveryLeft, t.Wrong, t.LockedUntil = len(c.Recovery), c.Tries, c.lockedUntil()
	if temporary := c.valid(now); temporary != nil {
		t.TemporaryUntil = timeOf(temporary.Until)
	}
}

// OfPerson are the devices of one person, in the order in which they were made.
func (k *Keeper) OfPerson(store, name string, now time.Time) []Token {
	p := k.find(store, name)
	if p == nil {
		return nil
	}
	return p.list("", now)
}

// List returns the tokens whose person or label contains the text, in the order of names. Somebody who has a temporary
// code alone is among them, as one of the kind KindTemporary.
func (k *Keeper) List(text string) []Token {
	text, now := strings.ToLower(text), time.Now()
	k.mu.RLock()
	all := make([]*person, 0, len(k.people))
	for _, p := range k.people {
		all = append(all, p)
	}
	k.mu.RUnlock()
	out := make([]Token, 0, len(all))
	for _, p := range all {
		out = append(out, p.list(text, now)...)
	}
	slices.SortFunc(out, func(a, b Token) int {
		return cmp.Or(strings.Compare(strings.ToLower(a.Name), strings.ToLower(b.Name)), strings.Compare(a.Store,
			b.Store), strings.Compare(a.ID, b.ID))
	})
	return out
}

func (p *person) list(text string, now time.Time) (out []Token) {
	p.mu.Lock()
	defer p.mu.Unlock()
	for _, d := range p.devices {
		if strings.Contains(strings.ToLower(d.Name+" "+d.Display+" "+d.Label), text) {
			out = append(out, *d.view(now))
		}
	}
	if len(p.devices) == 0 && p.common.valid(now) != nil &&
		strings.Contains(strings.ToLower(p.name+" "+p.display), text) {
		one := Token{
			ID:        p.id(),
			Kind:      KindTemporary,
			Store:     p.store,
			Name:      p.name,
			Display:   p.display,
			Confirmed: true,
		}
		one.common(p.common, now)
		out = append(out, one)
	}
	return out
}
