package main

import (
	"fmt"
	"net"
	"slices"
	"sync"
	"time"

	"tollgate.example/key/internal/wire/radius"
)

// options of one measurement.
type options struct {
	window   int           // requests under way at once
	duration time.Duration // how long, or
	requests int           // how many
	rate     float64       // requests per second; 0 is as many as are answered
	// build makes a request, code is what it is answered with; without them they are those of PAP.
	build func(key *radius.Key, identifier byte, n int) ([]byte, error)
	code  radius.Code
}

type result struct {
	answered, lost int
	rate           float64
	times          []time.Duration
}

// percentile of the answer times.
func (r *result) percentile(p int) time.Duration {
	if len(r.times) == 0 {
		return 0
	}
	slices.Sort(r.times)
	return r.times[min(len(r.times)-1, len(r.times)*p/100)].Round(10 * time.Microsecond)
}

// giveUp is when a request without answer counts as lost.
const giveUp = 3 * time.Second

// drive keeps a window of requests under way, each identifier a request of its own, and checks every answer's code.
func drive(server string, o options) (result, error) {
	sockets := max(4, (o.window+239)/240) // a socket has 256 identifiers
	if o.build == nil {
		o.build, o.code = build, radius.AccessAccept
	}
	results := make([]result, sockets)
	errs := make([]error, sockets)
	var all sync.WaitGroup
	begun := time.Now()
	for i := range sockets {
		all.Go(func() {
			part := o
			part.window, part.requests, part.rate = o.window/sockets, o.requests/sockets, o.rate/float64(sockets)
			results[i], errs[i] = driveSocket(server, part, i)
		})
	}
	all.Wait()
	took := time.Since(begun)
	var out result
	for i := range results {
		if errs[i] != nil {
			return out, errs[i]
		}
		out.answered += results[i].answered
		out.lost += results[i].lost
		out.times = append(out.times, results[i].times...)
	}
	out.rate = float64(out.answered) / took.Seconds()
	return out, nil
}

// driveSocket drives one socket.
func driveSocket(server string, o options, number int) (result, error) {
	var out result
	conn, err := net.Dial("udp", server)
	if err != nil {
		return out, err
	}
	defer conn.Close()
	c := conn.(*net.UDPConn)
	c.SetReadBuffer(4 << 20)
	key := radius.NewKey([]byte(secret))
	var sent [256]time.Time // zero when free
	buf := make([]byte, radius.MaxSize)
	begun := time.Now()
	end := begun.Add(o.duration)
	counter, under := 0, 0
	identifier := byte(0)
	more := func(now time.Time) bool {
		if o.requests > 0 {
			return counter < o.requests
		}
		return now.Before(end)
	}
	for {
		now := time.Now()
		for under < o.window && more(now) {
			if o.rate > 0 && float64(counter) > now.Sub(begun).Seconds()*o.rate {
				break
			}
			for !sent[identifier].IsZero() {
				identifier++
			}
			data, err := o.build(key, identifier, number<<24|counter)
			if err != nil {
				return out, err
			}
			sent[identifier] = time.Now()
			if _, err := c.Write(data); err != nil {
				return out, err
			}
			counter++
			under++
			identifier++
		}
		if under == 0 && !more(now) {
			return out, nil
		}
		wait := giveUp
		if o.rate > 0 {
			wait = 500 * time.Microsecond
		}
		c.SetReadDeadline(now.Add(wait))
		n, err := c.Read(buf)
		if err != nil {
			for i := range sent {
				if !sent[i].IsZero() && time.Since(sent[i]) > giveUp {
					sent[i] = time.Time{}
					out.lost++
					under--
				}
			}
			continue
		}
		if n < radius.HeaderSize || radius.Code(buf[0]) != o.code {
			return out, fmt.Errorf("answered with code %d", buf[0])
		}
		if at := sent[buf[1]]; !at.IsZero() {
			out.times = append(out.times, time.Since(at))
			sent[buf[1]] = time.Time{}
			out.answered++
			under--
		}
	}
}

// build makes the request of a switch.
func build(key *radius.Key, identifier byte, n int) ([]byte, error) {
	auth := [16]byte{byte(n), byte(n >> 8), byte(n >> 16), byte(n >> 24), 0x5a, identifier}
	hidden, err := key.HidePassword([]byte(password), auth)
	if err != nil {
		return nil, err
	}
	b := radius.NewRequest(radius.AccessRequest, identifier, auth, true)
	b.AddText(radius.UserName, user(n))
	b.Add(radius.UserPassword, hidden)
	b.AddInteger(radius.NASPortType, 15)
	b.AddText(radius.NASPortID, "1/0/8")
	b.AddText(radius.CallingStationID, fmt.Sprintf("00-00-5E-00-53-%02X", n%devices))
	return b.SignRequest(key)
}
