package apitype

import "time"

// Factor is a second factor of a person: a device that makes one-time codes.
type Factor struct {
	ID          string     `json:"id"`
	Store       string     `json:"store" doc:"Where the person is kept: a directory, or local"`
	Person      string     `json:"person"`
	Display     string     `json:"display"`
	Label       string     `json:"label" doc:"What the device is called"`
	Algorithm   string     `json:"algorithm"`
	Digits      int        `json:"digits"`
	Period      int        `json:"period" doc:"Seconds that a code is shown"`
	Confirmed   bool       `json:"confirmed" doc:"A code of it was seen; before, it counts for nothing"`
	ClockOff    int        `json:"clockOff" doc:"Seconds by which its clock is known to be ahead"`
	MadeAt      time.Time  `json:"madeAt"`
	MadeBy      string     `json:"madeBy"`
	UsedAt      *time.Time `json:"usedAt,omitempty"`
	UsedOn      string     `json:"usedOn"`
	Recovery    int        `json:"recovery" doc:"Recovery codes that are left"`
	Wrong       int        `json:"wrong" doc:"Wrong codes since the last right one"`
	LockedUntil *time.Time `json:"lockedUntil,omitempty" doc:"Until then no code is looked at, since too many were wrong"`
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
	Codes []string `json:"codes"`
}
