package apitype

import "time"

// DeviceKindFields are what can be edited of a rule that tells the kind of a device.
type DeviceKindFields struct {
	Name          string   `json:"name" required:"false" maxLength:"200" example:"label printers"`
	Kind          string   `json:"kind" required:"false" maxLength:"64" example:"printer" doc:"What conditions see as device.kind"`
	Order         int      `json:"order" required:"false" doc:"1 for what decides first, up to 99; 50 if it is 0"`
	MACs          []string `json:"macs" required:"false" doc:"Beginnings of addresses of devices, such as 02-00-5e"`
	Fingerprints  []string `json:"fingerprints" required:"false" doc:"Which options the device asks a DHCP server for, by number in its order (RFC 2132 section 9.8), such as 1,3,6,15"`
	VendorClasses []string `json:"vendorClasses" required:"false" doc:"Vendor class identifiers (RFC 2132 section 9.13); * stands for any characters"`
	Hosts         []string `json:"hosts" required:"false" doc:"What the device calls itself; * stands for any characters"`
	Note          string   `json:"note" required:"false" maxLength:"4000"`
}

// DeviceKind is a rule that tells the kind of a device.
type DeviceKind struct {
	Meta
	DeviceKindFields
	Devices int `json:"devices" doc:"Devices seen of which the rule in effect decides"`
}

// SeenDevice is a device with what was seen of it.
type SeenDevice struct {
	MAC         string    `json:"mac"`
	Kind        string    `json:"kind,omitempty" doc:"What the rules in effect take it for"`
	Rule        string    `json:"rule,omitempty" doc:"The rule that decides"`
	Host        string    `json:"host,omitempty"`
	Fingerprint string    `json:"fingerprint,omitempty"`
	VendorClass string    `json:"vendorClass,omitempty"`
	Seen        time.Time `json:"seen"`
}

// SeenDevices are devices with what was seen of them.
type SeenDevices struct {
	Total int          `json:"total" doc:"All devices that are remembered"`
	Found int          `json:"found" doc:"Those that fit the query"`
	Items []SeenDevice `json:"items" doc:"The latest of them"`
	Kinds []KindCount  `json:"kinds" doc:"How many of all are of which kind; an empty kind for those that no rule fits"`
}

// KindCount is how many devices are of a kind.
type KindCount struct {
	Kind  string `json:"kind"`
	Count int    `json:"count"`
}
