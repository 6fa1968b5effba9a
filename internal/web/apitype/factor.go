package apitype

import "time"

// Factor is a second factor of a person: a device that makes one-time codes.
type Factor struct {
	ID          string     `json:"id"`
	Store       string     `json:"store" doc:"Where the person is kept: a directory, or local"`
	Person      string     `json:"person"`
	Display     string     `json:"display"`
	Kind        string     `json:"kind" enum:"code,phone,key,temporary" doc:"code makes one-time codes, phone approves sign-ins, key is a security key; temporary stands for somebody who has a temporary code and no device"`
	Keyed       bool       `json:"keyed,omitempty" doc:"Of a phone: a sign-in is approved on it with a security key alone"`
	Label       string     `json:"label" doc:"What the device is called"`
	Algorithm   string     `json:"algorithm"`
	Digits      int        `json:"digits"`
	Period      int        `json:"period" doc:"Seconds that a code is shown; 0 for codes that follow a counter (RFC 4226)"`
	Confirmed   bool       `json:"confirmed" doc:"A code of it was seen; before, it counts for nothing"`
	ClockOff    int        `json:"clockOff" doc:"Seconds by which its clock is known to be ahead"`
	MadeAt      time.Time  `json:"madeAt"`
	MadeBy      string     `json:"madeBy"`
	UsedAt      *time.Time `json:"usedAt,omitempty"`
	UsedOn      string     `json:"usedOn"`
	Recovery    int        `json:"recovery" doc:"Recovery codes that are left"`
	Wrong       int        `json:"wrong" doc:"Wrong codes since the last right one"`
	LockedUntil *time.Time `json:"lockedUntil,omitempty" doc:"Until then no code is looked at, since too many were wrong"`
	// These are of the person.
	PausedUntil    *time.Time `json:"pausedUntil,omitempty" doc:"Until then the phone is not asked, since too many sign-ins were not approved"`
	Alarm          bool       `json:"alarm,omitempty" doc:"The person said of a sign-in on the phone: this is not me"`
	TemporaryUntil *time.Time `json:"temporaryUntil,omitempty" doc:"Until then a temporary code of the person is good"`
}

// TemporaryInput asks for a temporary code.
type TemporaryInput struct {
	Store  string `json:"store,omitempty" required:"false" maxLength:"200" doc:"A directory in effect, or local; empty looks in all of them"`
	Person string `json:"person" required:"false" maxLength:"256"`
	Hours  int    `json:"hours,omitempty" required:"false" minimum:"1" maximum:"336" doc:"For how long it is good; 24 if it is missing"`
	Once   bool   `json:"once,omitempty" required:"false" doc:"It is good once only"`
}

// TemporaryCode is a code for somebody whose device is not at hand. It is shown once.
type TemporaryCode struct {
	Person string    `json:"person"`
	Store  string    `json:"store"`
	Code   string    `json:"code"`
	Until  time.Time `json:"until"`
	Once   bool      `json:"once"`
}

// FactorInput begins an enrolment.
type FactorInput struct {
	Store     string `json:"store" required:"false" maxLength:"200" doc:"A directory in effect, or local; empty looks in all of them"`
	Person    string `json:"person" required:"false" maxLength:"200"`
	Label     string `json:"label" required:"false" doc:"What the device is called"`
	Seed      string `json:"seed" required:"false" maxLength:"200" doc:"The seed of a device that already has one, in base32; empty makes one"`
	Algorithm string `json:"algorithm" required:"false" doc:"SHA1 (usual), SHA256 or SHA512"`
	Digits    int    `json:"digits" required:"false" doc:"6 is usual"`
	Period    int    `json:"period" required:"false" doc:"Seconds; 30 is usual"`
	Replace   bool   `json:"replace,omitempty" required:"false" doc:"It counts in place of the other devices for codes that the person has, with new recovery codes"`
}

// FactorOffer is what the person brings into the device. It is shown once.
type FactorOffer struct {
	Factor Factor   `json:"factor"`
	Seed   string   `json:"seed"`
	URI    string   `json:"uri"`
	QR     []string `json:"qr" doc:"The picture, row by row; 1 is dark"`
}

// FactorCode is a code that a device shows.
type FactorCode struct {
	Code string `json:"code" required:"false" maxLength:"20"`
}

// FactorRecovery are recovery codes. They are shown once.
type FactorRecovery struct {
	Codes []string `json:"codes" doc:"Empty if the person has some from before"`
}

// Readiness is who is ready for a second factor.
type Readiness struct {
	BackTo    time.Time     `json:"backTo" doc:"From when on attempts were looked at"`
	Everybody ReadyGroup    `json:"everybody"`
	Groups    []ReadyGroup  `json:"groups" doc:"Those with the most people who have none first"`
	People    []ReadyPerson `json:"people"`
	More      int           `json:"more,omitempty" doc:"People beyond the limit"`
}

// ReadyGroup sums up a group.
type ReadyGroup struct {
	Group    string `json:"group"`
	People   int    `json:"people" doc:"Who signed in lately, or has an account"`
	Enrolled int    `json:"enrolled"`
	Without  int    `json:"without" doc:"Would be refused today if a second factor were asked of the group"`
	Graced   int    `json:"graced" doc:"Admitted for now without one"`
	Failing  int    `json:"failing" doc:"Refused lately by the second factor, or locked"`
}

// ReadyPerson is one of the people.
type ReadyPerson struct {
	Person   string     `json:"person"`
	Display  string     `json:"display,omitempty"`
	Store    string     `json:"store"`
	Groups   []string   `json:"groups"`
	Enrolled bool       `json:"enrolled"`
	With     []string   `json:"with,omitempty" doc:"What it is: code, phone, key, temporary"`
	Locked   bool       `json:"locked,omitempty"`
	Failed   int        `json:"failed,omitempty" doc:"Sign-ins of the last seven days that the second factor refused"`
	Seen     *time.Time `json:"seen,omitempty" doc:"The latest sign-in"`
	Graced   *time.Time `json:"graced,omitempty" doc:"Since when admitted without one"`
}

// RolloutInput has a lane ask a group for a second factor.
type RolloutInput struct {
	Group  string    `json:"group" maxLength:"300" doc:"As policies call it; empty for everybody"`
	Lane   string    `json:"lane" minLength:"1" maxLength:"300" doc:"Lane of the draft, by name or identifier"`
	Factor string    `json:"factor,omitempty" enum:"code,approval,any" doc:"What is asked for; any unless it is said"`
	Until  time.Time `json:"until,omitzero" required:"false" doc:"Until then people who have none are admitted without"`
}

// Rollout is what the lane asks for now, in the draft.
type Rollout struct {
	Lane    string     `json:"lane"`
	Factor  string     `json:"factor"`
	When    string     `json:"when" doc:"Who is asked; empty for everybody"`
	Until   *time.Time `json:"until,omitempty" doc:"Until when people who have none are admitted without"`
	People  int        `json:"people" doc:"People of the group who signed in lately or have an account"`
	Without int        `json:"without" doc:"Those of them who have no second factor that this lane takes"`
}

// FactorReport is whether servers, lanes and clients are ready for a second factor, and people by group.
type FactorReport struct {
	At        time.Time     `json:"at"`
	BackTo    time.Time     `json:"backTo" doc:"From when on attempts were looked at"`
	Checks    []ReportCheck `json:"checks"`
	Everybody ReadyGroup    `json:"everybody"`
	Groups    []ReadyGroup  `json:"groups"`
}

// ReportCheck is one line of it.
type ReportCheck struct {
	Area   string `json:"area" doc:"Server, Lanes or Gear"`
	Title  string `json:"title" doc:"What was looked at"`
	State  string `json:"state" enum:"good,warn,bad"`
	Found  string `json:"found"`
	Remedy string `json:"remedy,omitempty" doc:"What to do"`
}

// InvitationInput says whom to invite.
type InvitationInput struct {
	Person string `json:"person,omitempty" required:"false" maxLength:"256"`
	Store  string `json:"store,omitempty" required:"false" maxLength:"200" doc:"Directory of the person, or local; all are looked in if it is empty"`
	Group  string `json:"group,omitempty" required:"false" maxLength:"300" doc:"Invites those of the group who signed in lately and have no second factor"`
	Hours  int    `json:"hours,omitempty" required:"false" minimum:"1" maximum:"720" doc:"How long the links are good; 72 if it is missing"`
	Mail   bool   `json:"mail,omitempty" required:"false" doc:"Sends each link to the mail address of its person; nobody else sees it"`
	// Replace is for devices that were lost.
	Replace bool `json:"replace,omitempty" required:"false" doc:"The new device counts in place of those for codes that the person has, with new recovery codes"`
}

// Invitations are links for people, shown once.
type Invitations struct {
	Items []Invitation `json:"items"`
	Until time.Time    `json:"until"`
}

// Invitation is the link of one person.
type Invitation struct {
	Person  string `json:"person"`
	Display string `json:"display,omitempty"`
	Store   string `json:"store"`
	Link    string `json:"link,omitempty" required:"false" doc:"Missing if it was sent by mail"`
	Mailed  string `json:"mailed,omitempty" doc:"The address that it was sent to"`
	Problem string `json:"problem,omitempty" doc:"Why it could not be sent"`
	Has     bool   `json:"has,omitempty" doc:"The person has a second factor already, to which a new one is added"`
}

// FactorImport is a file of devices for one-time codes: CSV, or a key container.
type FactorImport struct {
	CSV     string `json:"csv,omitempty" required:"false" maxLength:"16777216" doc:"Columns person, store, serial, seed (base32) or hex, kind (totp or hotp), digits, period, counter, algorithm"`
	PSKC    string `json:"pskc,omitempty" required:"false" maxLength:"16777216" doc:"Key container (RFC 6030)"`
	Key     string `json:"key,omitempty" required:"false" maxLength:"200" doc:"Key that its values are encrypted with, in hexadecimal"`
	People  string `json:"people,omitempty" required:"false" maxLength:"16777216" doc:"CSV with the columns serial, person, store: whose the devices of the container are"`
	Check   bool   `json:"check,omitempty" required:"false" doc:"Only report what would happen"`
	Partial bool   `json:"partial,omitempty" required:"false" doc:"Store the good lines even if others are wrong"`
}
