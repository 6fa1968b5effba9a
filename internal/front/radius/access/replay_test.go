package access

import (
	"strconv"
	"strings"
	"testing"

	"tollgate.example/key/internal/core/config"
	"tollgate.example/key/internal/core/facts"
	"tollgate.example/key/internal/wire/eap"
	"tollgate.example/key/internal/wire/radius"
	"tollgate.example/key/test/transcript"
)

// replaySecret is the shared secret of the recordings; see test/e2e/record_test.go.
const replaySecret = "quay-light-and-bollard"

// What clients and supplicants of other authors sent is read again: each packet decodes and is authentic, the facts and
// the credential are those that they meant, and our replies prove themselves to them.
func TestConversationsOfRealPeers(t *testing.T) {
	for _, c := range []struct {
		file, user, method string
		// password is what PAP has to show, in the order of the requests.
		password []string
		codes    string
		// types are those of the EAP packets, in both directions.
		types string
	}{
		{"perl.txt", "k.nance", "pap", []string{"gangway-and-rope", "gangway-and-rope", "wrong"},
			"accept accept reject", ""},
		{"eap-md5.txt", "k.nance", "eap", nil, "challenge accept", "1 4 4 success"},
		{"peap-mschapv2.txt", "k.nance", "eap", nil, "challenge accept", "1 25 25 success"},
	} {
		t.Run(c.file, func(t *testing.T) {
			recorded, err := transcript.Read("testdata/" + c.file)
			if err != nil {
				t.Fatal(err)
			}
			r := &replay{t: t, key: radius.NewKey([]byte(replaySecret))}
			for _, connection := range recorded.Connections {
				for _, m := range connection {
					r.message(m)
				}
			}
			if len(r.facts) < 2 || r.facts[0].Method != c.method || !strings.Contains(r.facts[0].Sent, "k.nance") &&
				c.method == "pap" || r.facts[0].PortType != "Ethernet" {
				t.Errorf("%d requests; the first is %+v", len(r.facts), r.facts)
			}
			for i, want := range c.password {
				if i >= len(r.passwords) || r.passwords[i] != want {
					t.Errorf("password %d is not %q: %q", i+1, want, r.passwords)
				}
			}
			if got := strings.Join(r.codes, " "); !inOrder(got, c.codes) {
				t.Errorf("the replies are %s", got)
			}
			if got := strings.Join(r.types, " "); !inOrder(got, c.types) {
				t.Errorf("the types are %s", got)
			}
		})
	}
}

// inOrder reports whether the words occur in a text in this order.
func inOrder(text, words string) bool {
	all := strings.Fields(text)
	for _, w := range strings.Fields(words) {
		for len(all) > 0 && all[0] != w {
			all = all[1:]
		}
		if len(all) == 0 {
			return false
		}
		all = all[1:]
	}
	return true
}

type replay struct {
	t         *testing.T
	key       *radius.Key
	request   radius.Packet
	facts     []facts.Facts
	passwords []string
	codes     []string
	types     []string
}

func (r *replay) message(m transcript.Message) {
	p, err := radius.Decode(m.Data)
	if err != nil {
		r.t.Fatalf("%x: %v", m.Data, err)
	}
	if message := p.EAP(); message != nil {
		r.eap(message)
	}
	if !m.FromPeer {
		if err := r.key.VerifyReply(&p, r.request.Authenticator); err != nil || p.Identifier != r.request.Identifier {
			r.t.Errorf("our reply %s does not prove itself: %v", p.Code, err)
		}
		r.codes = append(r.codes, strings.ToLower(strings.TrimPrefix(p.Code.String(), "Access-")))
		return
	}
	signed := p.Has(radius.MessageAuthenticator)
	if signed && !r.key.VerifyMessageAuthenticator(&p) {
		r.t.Errorf("a request is not authentic: %x", m.Data)
	}
	var f facts.Facts
	Facts(&p, &config.Client{Name: "np-switch-1"}, nil, &f)
	r.request, r.facts = p, append(r.facts, f)
	if e := EAP(&p); e != nil {
		return
	}
	var space [radius.MaxPassword]byte
	c := Credential(&p, r.key, signed, &f, space[:])
	if c.Unreadable {
		r.t.Errorf("the credential cannot be read: %s", c.Detail)
	}
	r.passwords = append(r.passwords, string(c.Password))
}

func (r *replay) eap(message []byte) {
	p, err := eap.Decode(message)
	switch {
	case err != nil:
		r.t.Errorf("%x: %v", message, err)
	case p.Code == eap.Success:
		r.types = append(r.types, "success")
	case p.Code == eap.Failure:
		r.types = append(r.types, "failure")
	default:
		r.types = append(r.types, strconv.Itoa(int(p.Type)))
	}
	if err == nil && p.Type == 25 && len(p.Data) == 0 {
		r.t.Error("a PEAP packet without flags")
	}
}
