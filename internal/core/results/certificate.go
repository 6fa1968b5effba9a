package results

import "time"

// Certificate is a certificate in words.
type Certificate struct {
	Subject string    `json:"subject"`
	Issuer  string    `json:"issuer"`
	Serial  string    `json:"serial"`
	From    time.Time `json:"from"`
	Until   time.Time `json:"until"`
	DNS     []string  `json:"dns"`
	UPN     []string  `json:"upn"`
	Email   []string  `json:"email"`
	Key     string    `json:"key"`
	SHA256  string    `json:"sha256"`
	SHA1    string    `json:"sha1"`
	CA      bool      `json:"ca"`
}
