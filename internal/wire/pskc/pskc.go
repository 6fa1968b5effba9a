// Package pskc reads key containers of hardware tokens: the Portable Symmetric Key Container (RFC 6030), with keys in
// clear or encrypted by a key that both sides have.
package pskc

import (
	"bytes"
	"crypto/aes"
	"crypto/cipher"
	"crypto/hmac"
	"crypto/sha1"
	"encoding/base64"
	"encoding/hex"
	"encoding/xml"
	"errors"
	"fmt"
	"strings"
)

// Key is one key of a container.
type Key struct {
	// ID and Serial name the key and the device, User whom it is for; each may be missing.
	ID, Serial, User string
	// Counted tells that codes follow a counter (RFC 4226), else the time (RFC 6238).
	Counted bool
	Secret  []byte
	Digits  int
	// Counter is the next one of a counted key, Period the seconds of a step of another one, 0 where it is not said.
	Counter int64
	Period  int
	// Algorithm is SHA1, SHA256 or SHA512.
	Algorithm string
}

// MaxKeys bounds the keys of a container, maxDepth how deep elements are nested.
const (
	MaxKeys  = 100_000
	maxDepth = 32
)

// What is wrong with a container.
var (
	ErrNone      = errors.New("it holds no key")
	ErrMany      = fmt.Errorf("it holds more than %d keys", MaxKeys)
	ErrEncrypted = errors.New("its keys are encrypted: give the key that they were encrypted with")
	ErrCipher    = errors.New("its keys are encrypted in a way that is not known here; AES in CBC mode is")
	ErrWrongKey  = errors.New("the key does not fit: the values do not decrypt")
	ErrMAC       = errors.New("the key does not fit, or the container was changed: its MAC is wrong")
)

// The names of RFC 6030 section 10 and of XML encryption.
const (
	hotpAlgorithm = "urn:ietf:params:xml:ns:keyprov:pskc:hotp"
	totpAlgorithm = "urn:ietf:params:xml:ns:keyprov:pskc:totp"
	hmacSHA1      = "http://www.w3.org/2000/09/xmldsig#hmac-sha1"
	cbcSuffix     = "-cbc"
	cbcPrefix     = "http://www.w3.org/2001/04/xmlenc#aes"
)

type value struct {
	Plain     string     `xml:"PlainValue"`
	Encrypted *encrypted `xml:"EncryptedValue"`
	MAC       string     `xml:"ValueMAC"`
}

type encrypted struct {
	Method struct {
		Algorithm string `xml:"Algorithm,attr"`
	} `xml:"EncryptionMethod"`
	Data struct {
		Value string `xml:"CipherValue"`
	} `xml:"CipherData"`
}

type container struct {
	XMLName xml.Name `xml:"KeyContainer"`
	MAC     *struct {
		Algorithm string     `xml:"Algorithm,attr"`
		Key       *encrypted `xml:"MACKey"`
	} `xml:"MACMethod"`
	Packages []struct {
		Device struct {
			Serial string `xml:"SerialNo"`
			User   string `xml:"UserId"`
		} `xml:"DeviceInfo"`
		Key *struct {
			ID         string `xml:"Id,attr"`
			Algorithm  string `xml:"Algorithm,attr"`
			User       string `xml:"UserId"`
			Parameters struct {
				Suite    string `xml:"Suite"`
				Response struct {
					Length int `xml:"Length,attr"`
				} `xml:"ResponseFormat"`
			} `xml:"AlgorithmParameters"`
			Data struct {
				Secret  value `xml:"Secret"`
				Counter value `xml:"Counter"`
				Period  value `xml:"TimeInterval"`
			} `xml:"Data"`
		} `xml:"Key"`
	} `xml:"KeyPackage"`
}

// Parse reads a container. key decrypts its values, nil where they are in clear.
func Parse(text, key []byte) ([]Key, error) {
	if err := shallow(text); err != nil {
		return nil, err
	}
	var c container
	if err := xml.Unmarshal(text, &c); err != nil {
		return nil, fmt.Errorf("it is no key container (RFC 6030): %w", err)
	}
	o := opener{key: key}
	if c.MAC != nil && c.MAC.Key != nil && key != nil {
		if c.MAC.Algorithm != hmacSHA1 {
			return nil, fmt.Errorf("the MAC method %q is not known here; hmac-sha1 is", c.MAC.Algorithm)
		}
		mac, err := o.decrypt(c.MAC.Key)
		if err != nil {
			return nil, err
		}
		o.mac = mac
	}
	var out []Key
	for i := range c.Packages {
		p := &c.Packages[i]
		if p.Key == nil {
			continue
		}
		if len(out) == MaxKeys {
			return nil, ErrMany
		}
		k := Key{ID: strings.TrimSpace(p.Key.ID), Serial: strings.TrimSpace(p.Device.Serial),
			User: strings.TrimSpace(p.Key.User + p.Device.User), Digits: p.Key.Parameters.Response.Length}
		switch p.Key.Algorithm {
		case hotpAlgorithm:
			k.Counted = true
		case totpAlgorithm:
		default:
			return nil, fmt.Errorf(
				"key %q: the algorithm %q is not known here; hotp and totp are",
				k.ID,
				p.Key.Algorithm,
			)
		}
		k.Algorithm = suite(p.Key.Parameters.Suite)
		var err error
		if k.Secret, err = o.octets(&p.Key.Data.Secret); err != nil {
			return nil, fmt.Errorf("key %q: the secret: %w", k.ID, err)
		}
		if k.Counter, err = o.number(&p.Key.Data.Counter); err != nil {
			return nil, fmt.Errorf("key %q: the counter: %w", k.ID, err)
		}
		period, err := o.number(&p.Key.Data.Period)
		if err != nil || period > 3600 {
			return nil, fmt.Errorf(
				"key %q: the time interval: %w",
				k.ID,
				errors.Join(err, errors.New("it is no time")),
			)
		}
		k.Period = int(period)
		out = append(out, k)
	}
	if len(out) == 0 {
		return nil, ErrNone
	}
	return out, nil
}

// shallow refuses what is nested deeper than any container, before it is read as a whole.
func shallow(text []byte) error {
	d := xml.NewDecoder(bytes.NewReader(text))
	for depth := 0; ; {
		token, err := d.Token()
		if err != nil {
			return nil // whatever it is, reading it as a whole tells
		}
		switch token.(type) {
		case xml.StartElement:
			if depth++; depth > maxDepth {
				return fmt.Errorf("its elements are nested more than %d deep", maxDepth)
			}
		case xml.EndElement:
			depth--
		}
	}
}

// suite is the hash of a suite such as HMAC-SHA256.
func suite(text string) string {
	switch upper := strings.ToUpper(text); {
	case strings.Contains(upper, "512"):
		return "SHA512"
	case strings.Contains(upper, "256"):
		return "SHA256"
	}
	return "SHA1"
}

// opener opens values.
type opener struct{ key, mac []byte }

func (o *opener) octets(v *value) ([]byte, error) {
	if v.Encrypted != nil {
		sealed, err := v.Encrypted.octets()
		if err != nil {
			return nil, err
		}
		if o.mac != nil { // over the encrypted octets (section 6.1.1)
			said, err := base64.StdEncoding.DecodeString(strings.TrimSpace(v.MAC))
			sum := hmac.New(sha1.New, o.mac)
			sum.Write(sealed)
			if err != nil || !hmac.Equal(said, sum.Sum(nil)) {
				return nil, ErrMAC
			}
		}
		return o.decrypt(v.Encrypted)
	}
	out, err := base64.StdEncoding.DecodeString(strings.Join(strings.Fields(v.Plain), ""))
	switch {
	case err != nil:
		return nil, errors.New("it is not in base64")
	case len(out) == 0:
		return nil, errors.New("there is none")
	}
	return out, nil
}

// number reads a number in clear, or encrypted as octets with the most significant first.
func (o *opener) number(v *value) (n int64, err error) {
	if v.Encrypted == nil {
		text := strings.TrimSpace(v.Plain)
		if text == "" {
			return 0, nil
		}
		if _, err := fmt.Sscanf(text, "%d", &n); err != nil || n < 0 || fmt.Sprint(n) != text {
			return 0, fmt.Errorf("%q is no number", text)
		}
		return n, nil
	}
	octets, err := o.octets(v)
	if err != nil {
		return 0, err
	}
	if len(octets) > 8 || len(octets) == 8 && octets[0] > 0x7f {
		return 0, errors.New("it is too long")
	}
	for _, b := range octets {
		n = n<<8 | int64(b)
	}
	return n, nil
}

func (e *encrypted) octets() ([]byte, error) {
	out, err := base64.StdEncoding.DecodeString(strings.Join(strings.Fields(e.Data.Value), ""))
	if err != nil {
		return nil, errors.New("the encrypted value is not in base64")
	}
	return out, nil
}

// decrypt decrypts AES in CBC mode, with the initialization vector in front and the padding of XML encryption: the last
// octet counts it.
func (o *opener) decrypt(e *encrypted) ([]byte, error) {
	if o.key == nil {
		return nil, ErrEncrypted
	}
	if !strings.HasPrefix(e.Method.Algorithm, cbcPrefix) || !strings.HasSuffix(e.Method.Algorithm, cbcSuffix) {
		return nil, ErrCipher
	}
	sealed, err := e.octets()
	if err != nil {
		return nil, err
	}
	block, err := aes.NewCipher(o.key)
	if err != nil ||
		fmt.Sprint(len(o.key)*8) != strings.TrimSuffix(e.Method.Algorithm[len(cbcPrefix):], cbcSuffix) {
		return nil, fmt.Errorf("%w: it has %d bits", ErrWrongKey, len(o.key)*8)
	}
	if len(sealed) < 2*aes.BlockSize || len(sealed)%aes.BlockSize != 0 {
		return nil, ErrWrongKey
	}
	clear := make([]byte, len(sealed)-aes.BlockSize)
	cipher.NewCBCDecrypter(block, sealed[:aes.BlockSize]).CryptBlocks(clear, sealed[aes.BlockSize:])
	pad := int(clear[len(clear)-1])
	if pad == 0 || pad > aes.BlockSize || pad >= len(clear) {
		return nil, ErrWrongKey
	}
	return clear[:len(clear)-pad], nil
}

// ParseKey reads the key of a container, in hexadecimal.
func ParseKey(text string) ([]byte, error) {
	key, err := hex.DecodeString(strings.TrimPrefix(strings.Join(strings.Fields(text), ""), "0x"))
	if err != nil || len(key) != 16 && len(key) != 24 && len(key) != 32 {
		return nil, errors.New("the key of a container has 16, 24 or 32 octets, in hexadecimal")
	}
	return key, nil
}
