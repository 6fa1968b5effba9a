package main

import (
	"bytes"
	"errors"
	"fmt"
	"net"
	"net/http"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/pquerna/otp"
	"github.com/pquerna/otp/hotp"

	"tollgate.example/key/internal/core/config"
	"tollgate.example/key/internal/web/apitype"
	"tollgate.example/key/internal/web/client"
	"tollgate.example/key/internal/wire/radius"
)

// challengesOnly measures sign-ins in which a code is asked for by challenge, and each code is on the disk before the
// answer, beside those with a password alone.
func challengesOnly(duration time.Duration, rounds int) error {
	s, err := start()
	if err != nil {
		return err
	}
	defer s.end()
	if err := errors.Join(s.configure(), s.counters()); err != nil {
		return err
	}
	target := s.RADIUS[0].String()
	typists := make([]*typist, typing)
	for i := range typists {
		if typists[i], err = newTypist(target, i); err != nil {
			return err
		}
		defer typists[i].conn.Close()
	}
	for i := range typists { // each password once by argon2id, which takes all cores
		if err := typists[i].signIn(0); err != nil {
			return err
		}
	}
	fmt.Printf("Sign-ins of %d people at once, service and load on the same cores\n", typing)
	var ratios []float64
	for round := range rounds {
		if err := s.asks(""); err != nil {
			return err
		}
		plain, err := signIns(typists, 0, duration)
		if err != nil {
			return err
		}
		if err := s.asks(config.OneTimeCode); err != nil {
			return err
		}
		asked, err := signIns(typists, 1, duration)
		if err != nil {
			return err
		}
		ratio := 2 * asked / plain
		ratios = append(ratios, ratio)
		fmt.Printf("  round %d: password alone %6.0f/s   asked for a code %6.0f/s   of half the first %.2f\n", round+1,
			plain, asked, ratio)
	}
	slices.Sort(ratios)
	fmt.Printf("  median %.2f\n", ratios[len(ratios)/2])
	return nil
}

// typing is how many people sign in at once: those of a gateway in the morning.
const typing = 400

func typistName(i int) string { return fmt.Sprintf("typist%03d", i) }

// counterSeed is the seed of everybody's device, which counts.
const counterSeed = "GEZDGNBVGY3TQOJQGEZDGNBVGY3TQOJQ"

// counters makes those people, each with a device that counts.
func (s *service) counters() error {
	var b strings.Builder
	b.WriteString("person,serial,seed,kind\n")
	for i := range typing {
		if err := s.do(http.MethodPost, "/accounts", apitype.AccountInput{Password: password,
			AccountFields: apitype.AccountFields{Name: typistName(i), Groups: []string{"Crew"}, Enabled: true}},
			nil); err != nil {
			return err
		}
		fmt.Fprintf(&b, "%s,%d,%s,hotp\n", typistName(i), i, counterSeed)
	}
	return s.do(http.MethodPost, "/factor-import", apitype.FactorImport{CSV: b.String()}, nil)
}

// asks has the lane ask for a second factor, or for none.
func (s *service) asks(second string) error {
	var lane apitype.Lane
	if err := s.do(http.MethodGet, "/lanes/Wired", nil, &lane); err != nil {
		return err
	}
	lane.SecondFactor, lane.Factor.Ask = second, config.AskChallenge
	return errors.Join(s.do(http.MethodPut, "/lanes/"+lane.ID, lane.LaneFields, nil, client.IfMatch("*")),
		s.do(http.MethodPost, "/draft/publish", map[string]string{}, nil))
}

// typist is one person at a client of the protocol, who does one thing after the other.
type typist struct {
	conn    net.Conn
	name    string
	key     *radius.Key
	counter uint64
	n       int
}

func newTypist(server string, i int) (*typist, error) {
	conn, err := net.Dial("udp", server)
	return &typist{conn: conn, name: typistName(i), key: radius.NewKey([]byte(secret)), n: i << 24}, err
}

// ask sends what is typed and returns the answer.
func (t *typist) ask(typed string, state []byte) (p radius.Packet, err error) {
	t.n++
	auth := [16]byte{byte(t.n), byte(t.n >> 8), byte(t.n >> 16), byte(t.n >> 24), 0x5b}
	hidden, err := t.key.HidePassword([]byte(typed), auth)
	if err != nil {
		return p, err
	}
	b := radius.NewRequest(radius.AccessRequest, byte(t.n), auth, true)
	b.AddText(radius.UserName, t.name)
	b.Add(radius.UserPassword, hidden)
	b.AddInteger(radius.NASPortType, 15)
	if state != nil {
		b.Add(radius.State, state)
	}
	data, err := b.SignRequest(t.key)
	if err != nil {
		return p, err
	}
	if _, err = t.conn.Write(data); err != nil {
		return p, err
	}
	buf := make([]byte, radius.MaxSize)
	t.conn.SetReadDeadline(time.Now().Add(giveUp))
	n, err := t.conn.Read(buf)
	if err != nil {
		return p, err
	}
	return radius.Decode(buf[:n])
}

// signIn signs in once, with as many codes as are asked for.
func (t *typist) signIn(codes int) error {
	p, err := t.ask(password, nil)
	for range codes {
		if err != nil {
			return err
		}
		if p.Code != radius.AccessChallenge {
			return fmt.Errorf("%s is answered with %s instead of being asked", t.name, p.Code)
		}
		code, wrong := hotp.GenerateCodeCustom(counterSeed, t.counter, hotp.ValidateOpts{Digits: otp.DigitsSix,
			Algorithm: otp.AlgorithmSHA1})
		if wrong != nil {
			return wrong
		}
		t.counter++
		p, err = t.ask(code, bytes.Clone(p.Get(radius.State)))
	}
	if err == nil && p.Code != radius.AccessAccept {
		err = fmt.Errorf("%s is answered with %s", t.name, p.Code)
	}
	return err
}

// signIns has everybody sign in over and over, and returns how many did in a second.
func signIns(list []*typist, codes int, duration time.Duration) (float64, error) {
	var all sync.WaitGroup
	counts, errs := make([]int, len(list)), make([]error, len(list))
	begun := time.Now()
	for i, t := range list {
		all.Go(func() {
			for errs[i] == nil && time.Since(begun) < duration {
				errs[i] = t.signIn(codes)
				counts[i]++
			}
		})
	}
	all.Wait()
	took, total := time.Since(begun), 0
	for _, n := range counts {
		total += n
	}
	return float64(total) / took.Seconds(), errors.Join(errs...)
}
