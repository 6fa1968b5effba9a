package pskc

import (
	"encoding/hex"
	"errors"
	"strings"
	"testing"
)

// clear is figure 3 of RFC 6030, section 4.2, without what is not read here.
const clear = `<?xml version="1.0" encoding="UTF-8"?>
<KeyContainer Version="1.0" Id="exampleID1" xmlns="urn:ietf:params:xml:ns:keyprov:pskc">
<KeyPackage><DeviceInfo><Manufacturer>Manufacturer</Manufacturer><SerialNo>987654321</SerialNo></DeviceInfo>
<CryptoModuleInfo><Id>CM_ID_001</Id></CryptoModuleInfo>
<Key Id="12345678" Algorithm="urn:ietf:params:xml:ns:keyprov:pskc:hotp"><Issuer>Issuer</Issuer>
<AlgorithmParameters><ResponseFormat Length="8" Encoding="DECIMAL"/></AlgorithmParameters>
<Data><Secret><PlainValue>MTIzNDU2Nzg5MDEyMzQ1Njc4OTA=</PlainValue></Secret>
<Counter><PlainValue>0</PlainValue></Counter></Data></Key></KeyPackage></KeyContainer>`

// sealed is figure 6, section 6.1: encrypted by a key that both sides have, with a MAC.
const sealed = `<?xml version="1.0" encoding="UTF-8"?>
<pskc:KeyContainer Version="1.0" xmlns:pskc="urn:ietf:params:xml:ns:keyprov:pskc"
 xmlns:ds="http://www.w3.org/2000/09/xmldsig#" xmlns:xenc="http://www.w3.org/2001/04/xmlenc#">
<pskc:EncryptionKey><ds:KeyName>Pre-shared-key</ds:KeyName></pskc:EncryptionKey>
<pskc:MACMethod Algorithm="http://www.w3.org/2000/09/xmldsig#hmac-sha1"><pskc:MACKey>
<xenc:EncryptionMethod Algorithm="http://www.w3.org/2001/04/xmlenc#aes128-cbc"/>
<xenc:CipherData><xenc:CipherValue>ESIzRFVmd4iZABEiM0RVZgKn6WjLaTC1sbeBMSvIhRejN9vJa2BOlSaMrR7I5wSX
</xenc:CipherValue></xenc:CipherData></pskc:MACKey></pskc:MACMethod>
<pskc:KeyPackage><pskc:DeviceInfo><pskc:Manufacturer>Manufacturer</pskc:Manufacturer>
<pskc:SerialNo>987654321</pskc:SerialNo></pskc:DeviceInfo>
<pskc:CryptoModuleInfo><pskc:Id>CM_ID_001</pskc:Id></pskc:CryptoModuleInfo>
<pskc:Key Id="12345678" Algorithm="urn:ietf:params:xml:ns:keyprov:pskc:hotp"><pskc:Issuer>Issuer</pskc:Issuer>
<pskc:AlgorithmParameters><pskc:ResponseFormat Length="8" Encoding="DECIMAL"/></pskc:AlgorithmParameters>
<pskc:Data><pskc:Secret><pskc:EncryptedValue>
<xenc:EncryptionMethod Algorithm="http://www.w3.org/2001/04/xmlenc#aes128-cbc"/>
<xenc:CipherData><xenc:CipherValue>AAECAwQFBgcICQoLDA0OD+cIHItlB3Wra1DUpxVvOx2lef1VmNPCMl8jwZqIUqGv
</xenc:CipherValue></xenc:CipherData></pskc:EncryptedValue>
<pskc:ValueMAC>Su+NvtQfmvfJzF6bmQiJqoLRExc=</pskc:ValueMAC></pskc:Secret>
<pskc:Counter><pskc:PlainValue>0</pskc:PlainValue></pskc:Counter></pskc:Data></pskc:Key></pskc:KeyPackage>
</pskc:KeyContainer>`

func TestExamplesOfTheStandard(t *testing.T) {
	key, err := ParseKey("0x12345678901234567890123456789012")
	if err != nil {
		t.Fatal(err)
	}
	for name, given := range map[string]struct {
		text string
		key  []byte
	}{"in clear": {clear, nil}, "encrypted": {sealed, key}} {
		keys, err := Parse([]byte(given.text), given.key)
		if err != nil || len(keys) != 1 {
			t.Errorf("%s: %v, %v", name, keys, err)
			continue
		}
		k := keys[0]
		if k.ID != "12345678" || k.Serial != "987654321" || !k.Counted || k.Digits != 8 || k.Counter != 0 ||
			k.Algorithm != "SHA1" || string(k.Secret) != "12345678901234567890" {
			t.Errorf("%s: %+v %x", name, k, k.Secret)
		}
	}
}

func TestWhatIsWrongWithAContainer(t *testing.T) {
	key, _ := hex.DecodeString("12345678901234567890123456789012")
	other := append([]byte(nil), key...)
	other[0]++
	for name, c := range map[string]struct {
		text string
		key  []byte
		want error
	}{
		"without the key":   {sealed, nil, ErrEncrypted},
		"with another key":  {sealed, other, nil},
		"a long key":        {sealed, make([]byte, 32), ErrWrongKey},
		"changed":           {strings.Replace(sealed, "AAECAwQ", "AAECAwR", 1), key, ErrMAC},
		"another cipher":    {strings.ReplaceAll(sealed, "aes128-cbc", "tripledes-cbc"), key, ErrCipher},
		"no key":            {"<KeyContainer></KeyContainer>", nil, ErrNone},
		"another document":  {"<html></html>", nil, nil},
		"nothing":           {"", nil, nil},
		"deep":              {strings.Repeat("<a>", 1000), nil, nil},
		"no secret":         {strings.Replace(clear, "MTIzNDU2Nzg5MDEyMzQ1Njc4OTA=", "", 1), nil, nil},
		"no base64":         {strings.Replace(clear, "MTIzNDU2", "!!!!", 1), nil, nil},
		"another algorithm": {strings.Replace(clear, "pskc:hotp", "pskc:ocra", 1), nil, nil},
		"a bad counter":     {strings.Replace(clear, "<PlainValue>0<", "<PlainValue>-1<", 1), nil, nil},
	} {
		if keys, err := Parse([]byte(c.text), c.key); err == nil || c.want != nil && !errors.Is(err, c.want) {
			t.Errorf("%s: %v, %v", name, keys, err)
		}
	}
	for _, text := range []string{"", "12", "zz345678901234567890123456789012"} {
		if _, err := ParseKey(text); err == nil {
			t.Errorf("the key %q was taken", text)
		}
	}
}

func FuzzParse(f *testing.F) {
	key, _ := hex.DecodeString("12345678901234567890123456789012")
	f.Add([]byte(clear))
	f.Add([]byte(sealed))
	f.Fuzz(func(t *testing.T, text []byte) {
		keys, err := Parse(text, key)
		if err == nil && (len(keys) == 0 || len(keys) > MaxKeys) {
			t.Errorf("%d keys without an error", len(keys))
		}
		for _, k := range keys {
			if len(k.Secret) == 0 || k.Counter < 0 || k.Period < 0 {
				t.Errorf("%+v", k)
			}
		}
	})
}
