// Package tlsversion names the versions of TLS in errors of crypto/tls, which writes them as numbers.
package tlsversion

import (
	"crypto/tls"
	"regexp"
	"strconv"
	"strings"
)

// versions are the numbers by which crypto/tls writes what somebody offers.
var versions = regexp.MustCompile(`unsupported versions: \[[0-9a-f ]*\]|unsupported protocol version: [0-9a-f]+|` +
	`version [0-9a-f]{3,4}\b`)

var number = regexp.MustCompile(`\b[0-9a-f]{3,4}\b`)

// Named is an error of TLS with the versions by name.
func Named(err error) string {
	return versions.ReplaceAllStringFunc(strings.TrimPrefix(err.Error(), "tls: "), func(part string) string {
		return number.ReplaceAllStringFunc(part, func(hex string) string {
			n, err := strconv.ParseUint(hex, 16, 16)
			if err != nil || !strings.ContainsAny(hex, "0123456789") {
				return hex
			}
			return tls.VersionName(uint16(n))
		})
	})
}
