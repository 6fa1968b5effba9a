package radius

import (
	"net/netip"
	"sync"
	"testing"
	"time"
)

func TestDuplicates(t *testing.T) {
	d := newDuplicates()
	now := time.Unix(1000, 0)
	key := request{netip.MustParseAddrPort("192.0.2.11:50000"), 7}
	entry, _, again := d.arrive(key, [16]byte{1}, now)
	if again {
		t.Fatal("the first arrival is a retransmission")
	}
	if _, reply, again := d.arrive(key, [16]byte{1}, now.Add(time.Second)); !again || reply != nil {
		t.Error("a retransmission while the work is done is not recognised")
	}
	d.answered(key, entry, []byte("reply"))
	if _, reply, again := d.arrive(key, [16]byte{1}, now.Add(2*time.Second)); !again || string(reply) != "reply" {
		t.Errorf("the reply is not remembered: %q", reply)
	}
	if _, _, again := d.arrive(request{key.source, 8}, [16]byte{1}, now); again {
		t.Error("another identifier is taken for a retransmission")
	}
	if _, _, again := d.arrive(request{netip.MustParseAddrPort("192.0.2.11:50001"), 7}, [16]byte{1}, now); again {
		t.Error("another port is taken for a retransmission")
	}
	second, _, again := d.arrive(key, [16]byte{2}, now.Add(2*time.Second))
	if again {
		t.Error("a new authenticator under the same identifier is taken for a retransmission")
	}
	d.answered(key, entry, []byte("late"))
	d.answered(key, second, []byte("new"))
	if _, reply, _ := d.arrive(key, [16]byte{2}, now.Add(2*time.Second)); string(reply) != "new" {
		t.Errorf("the newer request is answered with %q", reply)
	}
	if _, _, again := d.arrive(key, [16]byte{2}, now.Add(remembered+3*time.Second)); again {
		t.Error("a request is remembered for ever")
	}
}

// A request that was not taken, because too many were under way, is taken when it comes again; one that was taken
// meanwhile is not forgotten by the end of an older one.
func TestWhatWasNotTakenIsNotRemembered(t *testing.T) {
	d := newDuplicates()
	now := time.Unix(1000, 0)
	key := request{netip.MustParseAddrPort("192.0.2.11:50000"), 7}
	first, _, _ := d.arrive(key, [16]byte{1}, now)
	d.forget(key, first)
	second, _, again := d.arrive(key, [16]byte{1}, now.Add(time.Second))
	if again {
		t.Fatal("what was not taken is swallowed when it comes again")
	}
	d.forget(key, first)
	if kept, _, again := d.arrive(key, [16]byte{1}, now.Add(2*time.Second)); !again || kept != second {
		t.Error("the end of an older request forgot a newer one")
	}
}

func TestDuplicatesAreBounded(t *testing.T) {
	d := newDuplicates()
	now := time.Unix(1000, 0)
	for i := range shards * (maxRemembered + 2000) {
		source := netip.AddrPortFrom(netip.MustParseAddr("192.0.2.11"), uint16(i>>8))
		d.arrive(request{source, byte(i)}, [16]byte{byte(i >> 16), byte(i >> 8)}, now)
	}
	for i := range d.shards {
		if n := len(d.shards[i].known); n > maxRemembered {
			t.Fatalf("shard %d holds %d", i, n)
		}
		if n := cap(d.shards[i].order); n > 4*maxRemembered {
			t.Fatalf("the order of shard %d holds %d", i, n)
		}
	}
}

func TestDelayerSendsInTime(t *testing.T) {
	d := newDelayer(nil)
	defer d.close()
	var mu sync.Mutex
	var got []string
	var done sync.WaitGroup
	send := func(name string) func() {
		done.Add(1)
		return func() {
			mu.Lock()
			got = append(got, name)
			mu.Unlock()
			done.Done()
		}
	}
	begun := time.Now()
	d.after(60*time.Millisecond, send("late"))
	d.after(20*time.Millisecond, send("early"))
	d.after(0, send("now"))
	done.Wait()
	if took := time.Since(begun); took < 60*time.Millisecond {
		t.Errorf("sent after %v", took)
	}
	if got[0] != "now" || got[1] != "early" || got[2] != "late" {
		t.Errorf("sent in the order %v", got)
	}
}
