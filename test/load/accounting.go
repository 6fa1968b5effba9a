package main

import (
	"context"
	"fmt"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"time"

	"github.com/jmoiron/sqlx"
	_ "modernc.org/sqlite" // the driver

	"tollgate.example/key/internal/base/ident"
	"tollgate.example/key/internal/store"
	"tollgate.example/key/internal/web/apitype"
	"tollgate.example/key/internal/wire/radius"
)

const (
	// accounted are the sessions that are reported about, openSessions those that a list is measured among.
	accounted    = 20_000
	openSessions = 500_000
)

// accountingOnly measures accounting beside batched insertions into SQLite, then pages of many open sessions.
func accountingOnly(duration time.Duration, rounds int, only bool) error {
	s, err := start()
	if err != nil {
		return err
	}
	defer s.end()
	if err := s.configure(); err != nil {
		return err
	}
	fmt.Printf("Accounting over loopback, of %d sessions; a record is on the disk before it is acknowledged\n",
		accounted)
	var ratios []float64
	var last float64
	for round := range rounds {
		base, err := insertions(s.dir, duration)
		if err != nil {
			return err
		}
		before := s.Sessions.Records().Len()
		r, err := drive(s.Accounting[0].String(), options{window: 1920, duration: duration, build: reporter(round),
			code: radius.AccountingResponse})
		if err != nil {
			return err
		}
		kept := s.Sessions.Records().Len() - before
		ratios, last = append(ratios, r.rate/base), r.rate
		fmt.Printf("  round %d: insertions %7.0f/s   acknowledged %7.0f/s   ratio %.2f   p50 %v   p99 %v   "+
			"acknowledged %d, "+
			"recorded %d\n", round+1, base, r.rate, r.rate/base, r.percentile(50), r.percentile(99), r.answered, kept)
		if kept < int64(r.answered) {
			return fmt.Errorf("%d records were acknowledged, but %d kept", r.answered, kept)
		}
	}
	slices.Sort(ratios)
	if only {
		fmt.Printf("  median ratio %.2f\n", ratios[len(ratios)/2])
		return nil
	}
	half, err := drive(s.Accounting[0].String(), options{window: 1920, duration: duration, build: reporter(rounds),
		code: radius.AccountingResponse, rate: last / 2})
	if err != nil {
		return err
	}
	fmt.Printf("  median ratio %.2f; at half load, %.0f/s: p50 %v, p99 %v\n", ratios[len(ratios)/2], half.rate,
		half.percentile(50), half.percentile(99))
	return s.pages()
}

// reporter makes interim records of many sessions; what is sent in one round is not sent again in another.
func reporter(round int) func(key *radius.Key, identifier byte, n int) ([]byte, error) {
	return func(key *radius.Key, identifier byte, n int) ([]byte, error) {
		return report(key, identifier, n, n/accounted+1+round<<20)
	}
}

// report is an interim record of one of many sessions.
func report(key *radius.Key, identifier byte, n, seconds int) ([]byte, error) {
	b := radius.NewRequest(radius.AccountingRequest, identifier, [16]byte{}, false)
	session := n % accounted
	b.AddInteger(radius.AcctStatusType, 3)
	b.AddText(radius.AcctSessionID, fmt.Sprintf("load-%06d", session))
	b.AddText(radius.UserName, user(session))
	b.AddText(radius.NASIdentifier, "load-1")
	b.AddText(radius.NASPortID, "1/0/8")
	b.AddText(radius.CallingStationID, fmt.Sprintf("00-00-5E-%02X-%02X-%02X", session>>16&0xff, session>>8&0xff,
		session&0xff))
	b.AddInteger(radius.AcctSessionTime, uint32(seconds))
	b.AddInteger(radius.AcctInputOctets, uint32(n))
	b.AddInteger(radius.AcctOutputOctets, uint32(n*3))
	return b.SignFixed(key)
}

// insertions inserts rows like records in transactions of a thousand, each on the disk, and returns how many a second.
func insertions(dir string, duration time.Duration) (float64, error) {
	path := filepath.Join(dir, "floor.db")
	db, err := sqlx.Open("sqlite", path+"?_pragma=journal_mode(WAL)&_pragma=synchronous(FULL)")
	if err != nil {
		return 0, err
	}
	defer os.Remove(path)
	defer db.Close()
	db.SetMaxOpenConns(1)
	if _, err := db.Exec("CREATE TABLE IF NOT EXISTS records (id INTEGER PRIMARY KEY, at INTEGER, kind TEXT, " +
		"client TEXT, " +
		"session TEXT, who TEXT, mac TEXT, address TEXT, octets INTEGER, attributes BLOB)"); err != nil {
		return 0, err
	}
	begun, n := time.Now(), 0
	attributes := make([]byte, 400)
	for time.Since(begun) < duration {
		tx, err := db.Beginx()
		if err != nil {
			return 0, err
		}
		put, err := tx.Preparex("INSERT INTO records (at, kind, client, session, who, mac, address, octets, " +
			"attributes) " +
			"VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?)")
		if err != nil {
			return 0, err
		}
		for range 1000 {
			if _, err := put.Exec(time.Now().UnixMicro(), "interim", "load-1", fmt.Sprintf("load-%06d", n%accounted),
				user(n),
				"00-00-5E-00-53-07", "192.0.2.7", n, attributes); err != nil {
				return 0, err
			}
			n++
		}
		if err := tx.Commit(); err != nil {
			return 0, err
		}
	}
	return float64(n) / time.Since(begun).Seconds(), nil
}

// pages measures lists among many open sessions.
func (s *service) pages() error {
	begun := time.Now()
	records := s.Sessions.Records()
	for i := s.Sessions.Len(); i < openSessions; i++ {
		a := &store.Accounted{At: time.Now(), Kind: store.AccountingStart, Client: fmt.Sprintf("switch-%03d", i%400),
			NAS: "n", Session: fmt.Sprintf("s-%d", i), Who: fmt.Sprintf("person%06d", i%200_000), Silence: time.Hour,
			MAC: fmt.Sprintf("02-00-5E-%02X-%02X-%02X", i>>16&0xff, i>>8&0xff, i&0xff), Pass: "crew", Began: time.Now(),
			Address: fmt.Sprintf("10.%d.%d.%d", i>>16, i>>8&0xff, i&0xff)}
		records.Add(a)
	}
	records.Flush(context.Background())
	fmt.Printf("%d sessions opened in %v\n", s.Sessions.Len(), time.Since(begun).Round(time.Millisecond))
	for _, query := range []string{"", "user=person000007", "mac=02-00-5e-00-00-07", "client=switch-007",
		"q=person19999",
		"q=nothing-like-this", "address=10.1.2.3", "before=" + ident.At(begun.Add(time.Second)).String()} {
		var slowest time.Duration
		var page apitype.SessionPage
		for range 5 {
			begun := time.Now()
			if err := s.do(http.MethodGet, "/sessions?limit=100&"+query, nil, &page); err != nil {
				return err
			}
			slowest = max(slowest, time.Since(begun))
		}
		fmt.Printf("  %-24s %3d found, slowest of five %v\n", query, len(page.Items),
			slowest.Round(10*time.Microsecond))
	}
	return nil
}
