package certificate

import (
	"crypto/x509"
	"encoding/asn1"
	"errors"
	"fmt"
	"slices"
)

// scope is which certificates a list is about (RFC 5280 section 5.2.5). The zero scope is all of its issuer.
type scope struct {
	// points are the distribution points that the list belongs to, none for all.
	points      []string
	users, ours bool // only certificates of ends, only those of authorities
}

// Extensions of lists.
var (
	oidDelta        = asn1.ObjectIdentifier{2, 5, 29, 27}
	oidDistribution = asn1.ObjectIdentifier{2, 5, 29, 28}
	oidListNumber   = asn1.ObjectIdentifier{2, 5, 29, 20}
	oidListKey      = asn1.ObjectIdentifier{2, 5, 29, 35}
)

// distribution is the issuing distribution point. Its parts are all optional, and told apart by their tags.
type distribution struct {
	Point         asn1.RawValue  `asn1:"optional,tag:0"`
	OnlyUsers     bool           `asn1:"optional,tag:1"`
	OnlyOurs      bool           `asn1:"optional,tag:2"`
	SomeReasons   asn1.BitString `asn1:"optional,tag:3"`
	Indirect      bool           `asn1:"optional,tag:4"`
	OnlyAttribute bool           `asn1:"optional,tag:5"`
}

// scopeOf reads which certificates a list is about. Lists that hold only a part of what is revoked, or what others
// revoked, are errors: a certificate that is missing from them is not thereby good.
func scopeOf(crl *x509.RevocationList) (scope, error) {
	var s scope
	for _, e := range crl.Extensions {
		switch {
		case e.Id.Equal(oidDelta):
			return s, errors.New("this is a delta list, which holds changes only; name the whole list")
		case e.Id.Equal(oidDistribution):
			var d distribution
			if rest, err := asn1.Unmarshal(e.Value, &d); err != nil || len(rest) > 0 {
				return s, errors.New("the issuing distribution point of the list cannot be read")
			}
			switch {
			case d.Indirect:
				return s, errors.New("this is an indirect list, which is not supported")
			case d.SomeReasons.BitLength > 0:
				return s, errors.New("this list holds certificates revoked for some reasons only; name the whole list")
			case d.OnlyAttribute:
				return s, errors.New("this list is about attribute certificates")
			}
			s.users, s.ours = d.OnlyUsers, d.OnlyOurs
			if len(d.Point.FullBytes) > 0 {
				if s.points = pointNames(d.Point.Bytes); len(s.points) == 0 {
					return s, errors.New("the distribution point of the list has no location that can be compared")
				}
			}
		case e.Critical && !e.Id.Equal(oidListNumber) && !e.Id.Equal(oidListKey):
			return s, fmt.Errorf("the list has a critical extension that is not known here: %v", e.Id)
		}
	}
	return s, nil
}

// pointNames reads the locations of a distribution point name: fullName [0] with general names, of which URIs are [6].
func pointNames(data []byte) []string {
	var full asn1.RawValue
	if _, err := asn1.Unmarshal(data, &full); err != nil || full.Class != asn1.ClassContextSpecific || full.Tag != 0 {
		return nil
	}
	var out []string
	for rest := full.Bytes; len(rest) > 0; {
		var name asn1.RawValue
		var err error
		if rest, err = asn1.Unmarshal(rest, &name); err != nil {
			return nil
		}
		if name.Class == asn1.ClassContextSpecific && name.Tag == 6 {
			out = append(out, string(name.Bytes))
		}
	}
	return out
}

// covers says why a list is not about a certificate, nil if it is.
func (s *scope) covers(cert *x509.Certificate) error {
	switch {
	case s.users && cert.IsCA:
		return errors.New("the list is not about authorities")
	case s.ours && !cert.IsCA:
		return errors.New("the list is about authorities only")
	case len(s.points) > 0 && !slices.ContainsFunc(s.points, func(p string) bool {
		return slices.Contains(cert.CRLDistributionPoints, p)
	}):
		return fmt.Errorf("the list is for certificates that name %s, and this one does not", s.points[0])
	}
	return nil
}
