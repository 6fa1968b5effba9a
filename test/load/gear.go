package main

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"os/exec"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"tollgate.example/key/internal/core/config"
	"tollgate.example/key/internal/web/apitype"
	"tollgate.example/key/internal/wire/tacacs"
)

const gearSecret = "mooring-and-measure-24"

// gearConns is how many devices ask at once.
const gearConns = 256

// ask is one question with the answer that it has to get.
type gearAsk struct {
	name   string
	packet []byte
	// first is the first octet of the right answer as it comes over the wire; echo takes the question itself.
	first byte
}

func question(name string, kind tacacs.Type, version byte, body []byte, status byte, flags byte) gearAsk {
	h := tacacs.Header{Version: version, Type: kind, Seq: 1, Session: 0x10203040, Flags: flags}
	reply := tacacs.Header{Version: version, Seq: 2, Session: h.Session}
	answer := []byte{status}
	reply.Obfuscate(answer, []byte(gearSecret))
	return gearAsk{name, h.Packet(body, []byte(gearSecret)), answer[0]}
}

func gearAsks(flags byte) []gearAsk {
	command := tacacs.Request{Method: tacacs.MethodTACACS, Level: 15, Kind: tacacs.ASCII, Service: tacacs.ServiceLogin,
		User: []byte(user(0)), Port: []byte("vty0"), Remote: []byte("192.0.2.7"),
		Args: [][]byte{[]byte("service=shell"), []byte("cmd=show"), []byte("cmd-arg=interfaces"),
			[]byte("cmd-arg=<cr>")}}
	login := tacacs.Start{Action: tacacs.Login, Level: 1, Kind: tacacs.PAP, Service: tacacs.ServiceLogin,
		User: []byte(user(0)), Port: []byte("vty0"), Remote: []byte("192.0.2.7"), Data: []byte(password)}
	record := tacacs.Record{Flags: tacacs.FlagStop, Request: command}
	acct := question("accounting records", tacacs.Accounting, tacacs.VersionDefault, record.Append(nil), 0, flags)
	return []gearAsk{
		question("authorizations", tacacs.Authorization, tacacs.VersionDefault, command.Append(nil),
			byte(tacacs.AuthorAdd), flags),
		acct, // its status is the fifth octet; the first, of the length of the message, is 0
		question("logins", tacacs.Authentication, tacacs.VersionOne, login.Append(nil), byte(tacacs.AuthenPass), flags),
	}
}

// echo answers every packet with itself, and closes the connection unless many go over one.
func echo() (net.Listener, error) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return nil, err
	}
	go func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			go func() {
				defer c.Close()
				in := bufio.NewReaderSize(c, 512)
				var raw [tacacs.HeaderSize]byte
				for {
					if _, err := io.ReadFull(in, raw[:]); err != nil {
						return
					}
					h, err := tacacs.ParseHeader(&raw)
					if err != nil {
						return
					}
					packet := make([]byte, tacacs.HeaderSize+int(h.Length))
					copy(packet, raw[:])
					if _, err := io.ReadFull(in, packet[tacacs.HeaderSize:]); err != nil {
						return
					}
					if _, err := c.Write(packet); err != nil || h.Flags&tacacs.Single == 0 {
						return
					}
				}
			}()
		}
	}()
	return l, nil
}

// askGear asks with many devices at once for a while; rate bounds the questions per second, 0 for as many as go.
func askGear(target string, a gearAsk, single, check bool, duration time.Duration, rate float64) (result, error) {
	var all sync.WaitGroup
	var failed atomic.Pointer[error]
	took := make([][]time.Duration, gearConns)
	begun := time.Now()
	end := begun.Add(duration)
	for i := range gearConns {
		all.Go(func() {
			var conn net.Conn
			defer func() {
				if conn != nil {
					conn.Close()
				}
			}()
			dialer := net.Dialer{LocalAddr: &net.TCPAddr{IP: net.IPv4(127, 0, 1, byte(1+i%250))}}
			buf := make([]byte, 4096)
			for n := 0; failed.Load() == nil; n++ {
				at := time.Now()
				if rate > 0 { // each has its own even beat
					at = begun.Add(time.Duration((float64(n) + float64(i)/gearConns) * float64(
						gearConns) / rate * float64(time.Second)))
					time.Sleep(time.Until(at))
				}
				if at.After(end) {
					return
				}
				var err error
				if conn == nil {
					conn, err = dialer.Dial("tcp", target)
				}
				if err == nil {
					err = exchangeGear(conn, &a, check, buf)
				}
				if err != nil {
					err = fmt.Errorf("%s: %w", a.name, err)
					failed.Store(&err)
					return
				}
				if !single {
					conn.Close()
					conn = nil
				}
				took[i] = append(took[i], time.Since(at))
			}
		})
	}
	all.Wait()
	if err := failed.Load(); err != nil {
		return result{}, *err
	}
	out := result{}
	for _, t := range took {
		out.times = append(out.times, t...)
	}
	out.answered = len(out.times)
	out.rate = float64(out.answered) / time.Since(begun).Seconds()
	slices.Sort(out.times)
	return out, nil
}

func exchangeGear(conn net.Conn, a *gearAsk, check bool, buf []byte) error {
	if _, err := conn.Write(a.packet); err != nil {
		return err
	}
	n := 0
	for n < tacacs.HeaderSize {
		m, err := conn.Read(buf[n:])
		if err != nil {
			return err
		}
		n += m
	}
	h, err := tacacs.ParseHeader((*[tacacs.HeaderSize]byte)(buf))
	if err != nil {
		return err
	}
	if _, err := io.ReadFull(conn, buf[n:tacacs.HeaderSize+int(h.Length)]); err != nil {
		return err
	}
	if check && buf[tacacs.HeaderSize] != a.first {
		return errors.New("the answer is another than it should be")
	}
	return nil
}

// configureGear adds gear, a lane for it, and a pass with a command list.
func (s *service) configureGear() error {
	lines := []config.CommandLine{{Verdict: "refuse", Pattern: "show running-config *"},
		{Verdict: "permit", Pattern: "configure terminal"}, {Verdict: "permit", Pattern: "interface eth*|gi*"},
		{Verdict: "permit", Pattern: "show *"}}
	return errors.Join(
		s.do(http.MethodPost, "/clients", apitype.ClientInput{TACACSSecret: gearSecret,
			ClientFields: apitype.ClientFields{Name: "gear-1", Enabled: true, Addresses: []string{"127.0.1.0/24"},
				MessageAuthenticator: "require", Tags: map[string]string{"kind": "router"}}}, nil),
		s.do(http.MethodPost, "/command-lists", apitype.CommandListFields{Name: "looking", Lines: lines}, nil),
		s.do(http.MethodPost, "/passes", apitype.PassFields{Name: "gear", PrivilegeLevel: "7", Commands: "looking"},
			nil),
		s.do(http.MethodPost, "/lanes", apitype.LaneFields{Name: "Gear",
			When: "service in device-login, device-command", Methods: []string{"pap"}, Policies: []*config.Policy{
				{Name: "Officers", Enabled: true, When: `group is "Deck Officers" and client.kind is router`,
					Outcome: config.Admit, Pass: "gear"},
				{Name: "Crew", Enabled: true, When: `group is Crew`, Outcome: config.Admit, Pass: "gear"}}}, nil),
		s.do(http.MethodPost, "/draft/publish", map[string]string{}, nil))
}

// measureGear measures what gear asks beside a bare echo of the same packets, by connections that are kept and by one
// for each question; every answer is in the journal before it is sent.
func measureGear(s *service, duration time.Duration, rounds int) error {
	if err := s.configureGear(); err != nil {
		return err
	}
	floor, err := echo()
	if err != nil {
		return err
	}
	defer floor.Close()
	target := s.TACACS[0].String()
	fmt.Printf("TACACS+ over loopback from %d devices, service and load on the same cores; every answer is in the "+
		"journal, on the disk, before it is sent\n", gearConns)
	for _, single := range []bool{true, false} {
		var flags byte
		how := "a connection for each"
		if single {
			flags, how = tacacs.Single, "kept connections"
		}
		for _, a := range gearAsks(flags) {
			// each password once by argon2id
			if _, err := askGear(target, a, single, true, 200*time.Millisecond, 0); err != nil {
				return err
			}
			var ratios, rates []float64
			for range rounds {
				f, err := askGear(floor.Addr().String(), a, single, false, duration, 0)
				if err != nil {
					return err
				}
				r, err := askGear(target, a, single, true, duration, 0)
				if err != nil {
					return err
				}
				s.Attempts.Flush(context.Background())
				ratios, rates = append(ratios, r.rate/f.rate), append(rates, r.rate)
			}
			slices.Sort(ratios)
			slices.Sort(rates)
			half, err := askGear(target, a, single, true, duration, rates[0]/2)
			if err != nil {
				return err
			}
			same, err := askGear(floor.Addr().String(), a, single, false, duration, rates[0]/2)
			if err != nil {
				return err
			}
			fmt.Printf("  %-18s %-21s %6.0f/s, ratio to the echo %.2f (%.2f to %.2f); at half load %.0f/s: p50 %v, "+
				"p99 %v (echo %v)\n", a.name, how, rates[len(rates)/2], ratios[len(ratios)/2], ratios[0],
				ratios[len(ratios)-1],
				half.rate, half.percentile(50).Round(10*time.Microsecond),
				half.percentile(99).Round(10*time.Microsecond), same.percentile(99))
		}
	}
	return idleGear(target, 10_000)
}

// idleGear has another process open connections that then rest, and tells by how much the memory of this one grew.
func idleGear(target string, n int) error {
	self, err := os.Executable()
	if err != nil {
		return err
	}
	before := resident()
	holder := exec.Command(self, "-hold", fmt.Sprint(n), "-at", target)
	holder.Stderr = os.Stderr
	stop, err := holder.StdinPipe()
	if err != nil {
		return err
	}
	ready, err := holder.StdoutPipe()
	if err != nil {
		return err
	}
	if err := holder.Start(); err != nil {
		return err
	}
	line, _ := bufio.NewReader(ready).ReadString('\n')
	grown := resident() - before
	stop.Close()
	if err := holder.Wait(); err != nil {
		return fmt.Errorf("holding idle connections: %w", err)
	}
	fmt.Printf("%s idle connections: %d MB more in the service\n", strings.TrimSpace(line), grown>>20)
	return nil
}

// hold opens connections that ask once each and then rest, until the standard input ends.
func hold(target string, n int) error {
	a := gearAsks(tacacs.Single)[0]
	buf := make([]byte, 4096)
	for i := range n {
		d := net.Dialer{LocalAddr: &net.TCPAddr{IP: net.IPv4(127, 0, 1, byte(1+i%200))}}
		c, err := d.Dial("tcp", target)
		if err != nil {
			return err
		}
		defer c.Close()
		if err := exchangeGear(c, &a, true, buf); err != nil {
			return err
		}
	}
	fmt.Println(n)
	_, err := io.Copy(io.Discard, os.Stdin)
	return err
}

// resident is the memory of this process that is in use, in octets.
func resident() int64 {
	text, err := os.ReadFile("/proc/self/statm")
	if err != nil {
		return 0
	}
	var size, pages int64
	fmt.Sscan(strings.TrimSpace(string(text)), &size, &pages)
	return pages * int64(os.Getpagesize())
}
