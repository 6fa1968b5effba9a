package store

import (
	"context"
	"strings"
	"time"

	"tollgate.example/key/internal/base/ident"
	"tollgate.example/key/internal/store/record"
)

// Kinds of accounting records. Start, interim, stop, on and off are what clients say (RFC 2866 section 5.1). Lost is an
// end that we note ourselves, since the client restarted, went silent or began the session anew; asked is what the
// client answered when it was asked to change the session, in Note, for whom in Cause.
const (
	AccountingAsked   = "asked"
	AccountingStart   = "start"
	AccountingInterim = "interim"
	AccountingStop    = "stop"
	AccountingOn      = "on"
	AccountingOff     = "off"
	AccountingLost    = "lost"
)

// Accounted is one record of accounting: what a client said, with whom we know it to be about. One that ends a session
// holds all of it.
type Accounted struct {
	// At is when it happened, as far as the delay tells that the client states; ID follows the order of recording.
	At   time.Time
	ID   ident.ID
	Kind string
	// Client is the name of the client, NAS what it calls itself, Source the address that it sent from.
	Client string
	NAS    string
	Source string
	// Session is the Acct-Session-Id; Of is the identifier of the session, that of the record which began it. A record
	// that began one has none.
	Session string
	Of      ident.ID
	// Who is the name in lower case, Display the person, MAC and Address the device, Place the port or the network.
	Who     string
	Display string
	MAC     string
	Address string
	Place   string
	// Class joins the session with the attempt that admitted it; Lane, Pass and VLAN are what that gave. Applied is
	// the VLAN that the client says it applied.
	Class   string
	Lane    string
	Pass    string
	VLAN    string
	Applied string
	// Began is when the session began. Seconds, octets and packets are counted from then.
	Began                 time.Time
	Seconds               int64
	In, Out               int64
	PacketsIn, PacketsOut int64
	// Cause is why it ended; Note says what is odd about the record.
	Cause string
	Note  string
	// Attributes are all that the client sent, as JSON.
	Attributes []byte

	// Stamp is the Event-Timestamp (RFC 2869 section 5.3), zero if the client sends none.
	Stamp time.Time

	// To names the remote servers that it is forwarded to, by their identifiers with spaces between; Raw are its
	// attributes as they came, only where it is forwarded.
	To  string
	Raw []byte

	// Silence is after how long without a word the session counts as over. It is not recorded.
	Silence time.Duration
}

// Ends reports whether the record ends a session.
func (a *Accounted) Ends() bool { return a.Kind == AccountingStop || a.Kind == AccountingLost }

// gatherAccounting is how long a record waits for others: clients wait for seconds, and a commit costs the same for one
// as for hundreds.
const gatherAccounting = 4 * time.Millisecond

// accounting is the kind of record that accounting is. A client forgets what it was acknowledged for, so a record is on
// the disk before that.
func accounting(written func([]*Accounted)) record.Kind[Accounted] {
	return record.Kind[Accounted]{Name: "accounting", Durable: true, Gather: gatherAccounting,
		Written: written,
		Key:     func(a *Accounted) (*ident.ID, *time.Time) { return &a.ID, &a.At },
		Fields: func(f *record.Fields, a *Accounted) {
			f.Term("kind", &a.Kind)
			f.Term("client", &a.Client)
			f.Text(&a.NAS)
			f.Text(&a.Source)
			f.Term("session", &a.Session)
			f.Identifier("of", &a.Of)
			f.Term("who", &a.Who)
			f.Term("display", &a.Display)
			f.Term("mac", &a.MAC)
			f.Term("address", &a.Address)
			f.Text(&a.Place)
			f.Term("class", &a.Class)
			f.Text(&a.Lane)
			f.Text(&a.Pass)
			f.Text(&a.VLAN)
			f.Text(&a.Applied)
			f.Moment(&a.Began)
			f.Int(&a.Seconds)
			f.Int(&a.In)
			f.Int(&a.Out)
			f.Int(&a.PacketsIn)
			f.Int(&a.PacketsOut)
			f.Text(&a.Cause)
			f.Text(&a.Note)
			f.Body(&a.Attributes)
			f.Moment(&a.Stamp)
			f.Text(&a.To)
			f.Body(&a.Raw)
		}}
}

// Accounting are the records of accounting, in a file of their own.
type Accounting struct{ *record.Keeper[Accounted] }

// OpenAccounting opens or creates the records in a data directory. The function is called with each batch after its
// commit, in order, before those who wait for it are told.
func OpenAccounting(ctx context.Context, dir string, ids *ident.Source, keep record.Retention,
	written func([]*Accounted)) (*Accounting, error) {
	k, err := record.Open(ctx, dir, ids, accounting(written), keep)
	if err != nil {
		return nil, err
	}
	return &Accounting{k}, nil
}

// AccountingFilter selects records of accounting. Empty fields select everything.
type AccountingFilter struct {
	User, MAC, Client, Session, Class string
	// Of selects the records of one session but the one that began it; Ended those that end one.
	Of    ident.ID
	Ended bool
	// Text is searched in name, person, MAC, address, client and session.
	Text string
	Span
	Limit    int
	Patience time.Duration
	Bodies   bool
	// Reach leaves out what happened on other clients; nil is all of them.
	Reach func(client string) bool
	// Forwarded reads the bodies of records that are forwarded.
	Forwarded bool
}

// Fits reports whether a record is among those that the filter selects by what is in it.
func (f *AccountingFilter) Fits(a *Accounted) bool {
	return f.Holds(a.ID, a.At) && fits(f.conditions(), a)
}

func (f *AccountingFilter) conditions() conditions[Accounted] {
	c := conditions[Accounted]{}
	if user := strings.ToLower(f.User); strings.Contains(user, "*") {
		c.match(user, func(a *Accounted, match func(string) bool) bool { return match(a.Who) }, "who")
	} else {
		c.equal("who", user, func(a *Accounted) string { return a.Who })
	}
	c.equal("mac", f.MAC, func(a *Accounted) string { return a.MAC })
	c.equal("client", f.Client, func(a *Accounted) string { return a.Client })
	c.equal("session", f.Session, func(a *Accounted) string { return a.Session })
	c.equal("class", f.Class, func(a *Accounted) string { return a.Class })
	if f.Reach != nil {
		c = append(c, record.Condition[Accounted]{Fits: func(a *Accounted) bool { return f.Reach(a.Client) }})
	}
	if f.Of != 0 {
		c.equal("of", f.Of.String(), func(a *Accounted) string { return a.Of.String() })
	}
	if f.Ended {
		c = append(c, record.Condition[Accounted]{Fits: (*Accounted).Ends, In: []record.Lookup{
			{Field: "kind", Pattern: AccountingStop}, {Field: "kind", Pattern: AccountingLost}}})
	}
	if f.Text != "" {
		c.match("*"+f.Text+"*", func(a *Accounted, match func(string) bool) bool {
			return match(a.Who) || match(a.Display) || match(a.MAC) || match(a.Address) || match(a.Client) ||
				match(a.Session)
		}, "who", "display", "mac", "address", "client", "session")
	}
	return c
}

// Find lists records from the newest to the oldest; with After alone, the oldest of the newer ones first.
func (a *Accounting) Find(ctx context.Context, f AccountingFilter) (record.Page[Accounted], error) {
	return a.List(ctx, record.Query[Accounted]{Span: f.Span, Conditions: f.conditions(), Limit: f.Limit,
		Patience: f.Patience, Bodies: func(a *Accounted) bool { return f.Bodies || f.Forwarded && a.To != "" }})
}
