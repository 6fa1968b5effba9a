package facts

// Traits are what is seen of a device beside its address. They are what it says of itself, and prove nothing.
type Traits struct {
	// Fingerprint is which options it asks a DHCP server for, by number (RFC 2132 section 9.8), such as 1,3,6,15.
	Fingerprint string `json:"fingerprint,omitempty"`
	// VendorClass is its vendor class identifier (RFC 2132 section 9.13), Host what it calls itself.
	VendorClass string `json:"vendorClass,omitempty"`
	Host        string `json:"host,omitempty"`
}

// Kind is what a device is taken for, and by which rule.
type Kind struct{ Name, Rule string }

// DeviceKind is the kind of the device: the tag kind of a known device, or what rules take it for; "" if neither is
// there.
func (f *Facts) DeviceKind() string {
	if f.Device != nil {
		if tag := f.Device.Tags["kind"]; tag != "" {
			return tag
		}
	}
	if f.Kind != nil {
		return f.Kind.Name
	}
	return ""
}
