package push

import (
	"bytes"
	"crypto/aes"
	"crypto/cipher"
	"crypto/ecdh"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/hkdf"
	"crypto/rand"
	"crypto/sha256"
	"crypto/x509"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"math/big"
	"net/http"
	"net/http/httptest"
	"strings"
	"sync/atomic"
	"testing"
	"time"
)

// service is a push service, and the phone behind it.
type service struct {
	*httptest.Server
	to      Subscription
	private *ecdh.PrivateKey
	secret  []byte
	status  atomic.Int64
	got     chan *http.Request
	body    chan []byte
}

func serve(t *testing.T) *service {
	t.Helper()
	s := &service{got: make(chan *http.Request, 100), body: make(chan []byte, 100),
		secret: make([]byte, 16)}
	rand.Read(s.secret)
	s.status.Store(http.StatusCreated)
	var err error
	if s.private, err = ecdh.P256().GenerateKey(rand.Reader); err != nil {
		t.Fatal(err)
	}
	s.Server = httptest.NewTLSServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		body, _ := io.ReadAll(r.Body)
		status := int(s.status.Load()) // before the test is told, which may change it at once
		s.got <- r
		s.body <- body
		w.WriteHeader(status)
	}))
	t.Cleanup(s.Close)
	encode := base64.RawURLEncoding.EncodeToString
	s.to = Subscription{s.URL + "/for/this/phone", encode(s.private.PublicKey().Bytes()), encode(s.secret)}
	return s
}

func (s *service) sender(t *testing.T, how func(o *Options)) *Sender {
	t.Helper()
	key := sha256.Sum256([]byte("a key of the service"))
	roots := x509.NewCertPool()
	roots.AddCert(s.Certificate())
	o := Options{Contact: "Network <network@lanternferries.example>", Key: key[:], Private: true, Roots: roots,
		Gone: func(string) {}, Log: slog.New(slog.DiscardHandler)}
	if how != nil {
		how(&o)
	}
	out, err := Open(o)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(out.Close)
	return out
}

// open decrypts a message as a browser does (RFC 8291 section 3.4, RFC 8188 section 2).
func (s *service) open(body []byte) (string, error) {
	if len(body) < 21+65 || body[20] != 65 {
		return "", errors.New("the header is not one")
	}
	salt, from, sealed := body[:16], body[21:86], body[86:]
	public, err := ecdh.P256().NewPublicKey(from)
	if err != nil {
		return "", err
	}
	shared, err := s.private.ECDH(public)
	if err != nil {
		return "", err
	}
	info := "WebPush: info\x00" + string(s.private.PublicKey().Bytes()) + string(from)
	ikm, _ := hkdf.Key(sha256.New, shared, s.secret, info, 32)
	key, _ := hkdf.Key(sha256.New, ikm, salt, "Content-Encoding: aes128gcm\x00", 16)
	nonce, _ := hkdf.Key(sha256.New, ikm, salt, "Content-Encoding: nonce\x00", 12)
	block, _ := aes.NewCipher(key)
	gcm, _ := cipher.NewGCM(block)
	plain, err := gcm.Open(nil, nonce, sealed, nil)
	if err != nil {
		return "", err
	}
	plain = bytes.TrimRight(plain, "\x00")
	if len(plain) == 0 || plain[len(plain)-1] != 2 {
		return "", errors.New("the last record has no end")
	}
	return string(plain[:len(plain)-1]), nil
}

// vapid checks who sent a message (RFC 8292 section 2).
func vapid(header, origin, key string) (map[string]any, error) {
	var token, k string
	if _, err := fmt.Sscanf(strings.ReplaceAll(header, ", ", " "), "vapid t=%s k=%s", &token, &k); err != nil {
		return nil, err
	}
	parts := strings.Split(token, ".")
	if len(parts) != 3 || k != key {
		return nil, fmt.Errorf("token %q by %q", token, k)
	}
	point, err := base64.RawURLEncoding.DecodeString(k)
	if err != nil {
		return nil, errors.New("the key is none")
	}
	public, err := ecdsa.ParseUncompressedPublicKey(elliptic.P256(), point)
	if err != nil {
		return nil, err
	}
	signature, err := base64.RawURLEncoding.DecodeString(parts[2])
	sum := sha256.Sum256([]byte(parts[0] + "." + parts[1]))
	if err != nil || len(signature) != 64 || !ecdsa.Verify(public, sum[:], new(big.Int).SetBytes(signature[:32]),
		new(big.Int).SetBytes(signature[32:])) {
		return nil, errors.New("the signature does not verify")
	}
	text, err := base64.RawURLEncoding.DecodeString(parts[1])
	if err != nil {
		return nil, err
	}
	var claims map[string]any
	if err := json.Unmarshal(text, &claims); err != nil || claims["aud"] != origin {
		return claims, fmt.Errorf("claims %v for %s, %w", claims, origin, err)
	}
	return claims, nil
}

func TestAMessageToAPhone(t *testing.T) {
	s := serve(t)
	sender := s.sender(t, nil)
	sender.Send("phone-1", s.to, []byte(`{"title":"A sign-in waits"}`), time.Now().Add(time.Minute))
	r := <-s.got
	if text, err := s.open(<-s.body); err != nil || text != `{"title":"A sign-in waits"}` {
		t.Errorf("%q, %v", text, err)
	}
	if h := r.Header; r.URL.Path != "/for/this/phone" || h.Get("Urgency") != "high" || h.Get("Topic") != "sign-in" ||
		h.Get("Content-Encoding") != "aes128gcm" || h.Get("Ttl") != "59" && h.Get("Ttl") != "60" {
		t.Errorf("%s %v", r.URL, h)
	}
	claims, err := vapid(r.Header.Get("Authorization"), s.URL, sender.PublicKey())
	if err != nil || claims["sub"] != "mailto:network@lanternferries.example" {
		t.Errorf("%v, %v", claims, err)
	}
	if other := s.sender(t, nil); other.PublicKey() != sender.PublicKey() {
		t.Error("two nodes have different keys")
	}
	sender.Send("phone-1", s.to, []byte("x"), time.Now())                               // over
	sender.Send("phone-1", s.to, make([]byte, maxMessage+1), time.Now().Add(time.Hour)) // too long
	sender.Send("phone-1", s.to, []byte("last"), time.Now().Add(time.Minute))
	<-s.got
	if text, err := s.open(<-s.body); err != nil || text != "last" {
		t.Errorf("%q, %v", text, err)
	}
}

func TestSubscriptionsThatEnd(t *testing.T) {
	s := serve(t)
	gone := make(chan string, 2)
	sender := s.sender(t, func(o *Options) { o.Gone = func(phone string) { gone <- phone } })
	for _, status := range []int64{http.StatusInternalServerError, http.StatusGone} {
		s.status.Store(status)
		sender.Send(fmt.Sprint(status), s.to, []byte("x"), time.Now().Add(time.Minute))
		<-s.got
	}
	if phone := <-gone; phone != "410" {
		t.Errorf("%s is gone", phone)
	}
}

// A phone is that of a person, who has no say about what the service reaches inside.
func TestPhonesCannotReachInside(t *testing.T) {
	s := serve(t)
	log := &strings.Builder{}
	sender := s.sender(t, func(o *Options) {
		o.Private, o.Log = false, slog.New(slog.NewTextHandler(log, nil))
	})
	if err := sender.send(&message{"phone", s.to, []byte("x"), time.Now().Add(time.Minute)}); err == nil ||
		!strings.Contains(err.Error(), "is not on the internet") {
		t.Errorf("to this machine: %v", err)
	}
	for address, want := range map[string]bool{"127.0.0.1:443": false, "10.1.2.3:443": false, "[::1]:443": false,
		"169.254.169.254:443": false, "100.64.0.9:443": false, "[fe80::1]:443": false, "[fd00::1]:443": false,
		"[::ffff:192.168.1.1]:443": false, "0.0.0.0:443": false,
		"[64:ff9b::a01:203]:443": false, "[2002:a01:203::1]:443": false, "[::10.1.2.3]:443": false,
		"198.18.0.1:443": false, "224.0.0.1:443": false, "x": false,
		"198.51.100.7:443": true, "[2001:db8::1]:443": true} {
		if err := sender.allowed(address); (err == nil) != want {
			t.Errorf("%s: %v", address, err)
		}
	}
	if len(s.got) != 0 {
		t.Error("something came")
	}
}

func TestWhatIsNoSubscription(t *testing.T) {
	s := serve(t)
	if err := s.to.Check(); err != nil {
		t.Error(err)
	}
	for i, change := range []func(x *Subscription){
		func(x *Subscription) { x.Endpoint = "http://push.example/x" },
		func(x *Subscription) { x.Endpoint = "https://" },
		func(x *Subscription) { x.Endpoint = "https://a:b@push.example/" },
		func(x *Subscription) { x.Endpoint = "https://push.example/" + strings.Repeat("x", maxEndpoint) },
		func(x *Subscription) { x.Endpoint = ":" },
		func(x *Subscription) { x.P256DH = "AAAA" },
		func(x *Subscription) { x.P256DH = x.P256DH[:len(x.P256DH)-4] + "AAAA" },
		func(x *Subscription) { x.Auth = "AAAA" },
		func(x *Subscription) { x.Auth = "!" },
	} {
		bad := s.to
		if change(&bad); bad.Check() == nil || !errors.Is(bad.Check(), ErrSubscription) {
			t.Errorf("%d: %+v is taken", i, bad)
		}
	}
	if _, err := Open(Options{Contact: "nobody", Key: make([]byte, 32)}); err == nil {
		t.Error("a contact that is no address is taken")
	}
}
