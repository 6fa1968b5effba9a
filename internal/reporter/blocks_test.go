package reporter

import (
	"context"
	"errors"
	"math/rand/v2"
	"strings"
	"testing"
	"time"

	core "tollgate.example/key/internal/core/presence"
)

func TestNewBlocks(t *testing.T) {
	for _, c := range []struct {
		first, last uint16
		size        int
		want        error
	}{{10000, 29999, 500, nil}, {10000, 29999, 20001, ErrSize}, {10000, 29999, 3, ErrSize}, {22, 29999, 500, ErrRange},
		{29999, 10000, 500, ErrRange}, {65000, 65535, 536, nil}} {
		if _, err := NewBlocks(core.Ports{First: c.first, Last: c.last}, c.size, 0); !errors.Is(err, c.want) {
			t.Errorf("%d-%d in blocks of %d: %v", c.first, c.last, c.size, err)
		}
	}
}

// Over random histories of people who come, go, leave something running and come back, and of a reporter that is
// started again: blocks never overlap, nobody has two, and no block goes to another person before it has rested since
// the last sign of the one before.
func TestBlocksAreNobodyElses(t *testing.T) {
	const reuse = 4 * time.Minute
	for seed := range uint64(300) {
		r := rand.New(rand.NewPCG(seed, 20))
		all := core.Ports{First: 20000, Last: 20039}
		fresh := func() *Blocks {
			b, err := NewBlocks(all, 8, reuse) // five blocks for eight people
			if err != nil {
				t.Fatal(err)
			}
			return b
		}
		b, now := fresh(), time.Unix(1_800_000_000, 0)
		here, running := map[uint32]bool{}, map[uint32]bool{}
		type use struct {
			uid uint32
			at  time.Time
		}
		last := map[core.Ports]use{}
		refused := 0
		for range 200 {
			now = now.Add(time.Duration(r.IntN(90)) * time.Second)
			uid := uint32(1000 + r.IntN(8))
			switch r.IntN(4) {
			case 0, 1:
				here[uid], running[uid] = true, true
			case 2:
				here[uid] = false
				running[uid] = r.IntN(3) == 0
			case 3:
				if r.IntN(5) == 0 {
					list := b.List()
					b = fresh()
					b.Take(list, now)
				}
			}
			b.Leave(func(u uint32) bool { return here[u] }, func(u uint32) bool { return running[u] }, now)
			for u, is := range here {
				if !is {
					continue
				}
				ports, err := b.Of(u, now)
				if errors.Is(err, ErrExhausted) {
					refused++
					continue
				}
				if before, used := last[ports]; used && before.uid != u && now.Sub(before.at) < reuse {
					t.Fatalf("seed %d: %v of %d went to %d after %v", seed, ports, before.uid, u, now.Sub(before.at))
				}
			}
			owners := map[uint32]bool{}
			for i, one := range b.List() {
				if i > 0 && one.Ports.Overlap(b.List()[i-1].Ports) || owners[one.UID] {
					t.Fatalf("seed %d: %+v", seed, b.List())
				}
				owners[one.UID] = true
				if here[one.UID] || running[one.UID] {
					last[one.Ports] = use{one.UID, now}
				}
			}
		}
		if seed == 0 && refused == 0 {
			t.Error("the blocks were never exhausted, so it was not tried")
		}
	}
}

func TestPeople(t *testing.T) {
	at := time.Unix(1_800_000_000, 0)
	list := []Session{{UID: 0, Name: "root", Since: at}, {UID: 1001, Name: "s.lodge", Since: at.Add(time.Hour)},
		{UID: 1002, Name: "n.quay", Remote: true, Since: at}, {UID: 1001, Name: "s.lodge", Since: at}}
	desk := People(list, 1000, false)
	if len(desk) != 1 || desk[0].Name != "s.lodge" || !desk[0].Since.Equal(at) {
		t.Errorf("at the desk %+v", desk)
	}
	if shared := People(list, 1000, true); len(shared) != 2 {
		t.Errorf("on a shared host %+v", shared)
	}
}

// What the kernel is told is read back as the same blocks, and what others wrote into its rules is not ours.
func TestKernelRemembers(t *testing.T) {
	told := ""
	k := &Kernel{Others: core.Ports{First: 32768, Last: 60999},
		run: func(_ context.Context, in string, args ...string) ([]byte, error) {
			switch strings.Join(args, " ") {
			case "-f -":
				told = in
				return nil, nil
			case "-j list tables inet":
				return []byte(`{"nftables": [{"table": {"family": "inet", "name": "tollgate_reporter"}}]}`), nil
			}
			return []byte(`{"nftables": [{"metainfo": {}}, {"rule": {"comment": "user 1001 ports 20000-20499"}},
				{"rule": {"comment": "user 1001 ports 20000-20499"}}, {"rule": {"comment": "user many ports"}},
				{"rule": {}}]}`), nil
		}}
	list, err := k.Blocks(t.Context())
	if err != nil || len(list) != 2 || list[0].UID != 1001 || list[0].Ports != (core.Ports{First: 20000, Last: 20499}) {
		t.Fatal(list, err)
	}
	b, _ := NewBlocks(core.Ports{First: 20000, Last: 21999}, 500, time.Minute)
	b.Take(append(list, Block{UID: 1002, Ports: core.Ports{First: 20400, Last: 20899}}), time.Now())
	if got := b.List(); len(got) != 1 || got[0].UID != 1001 {
		t.Errorf("taken %+v", got)
	}
	if err := k.Set(t.Context(), b.List(), core.Ports{First: 20000, Last: 21999}); err != nil {
		t.Fatal(err)
	}
	for _, part := range []string{"delete table inet tollgate_reporter", "meta skuid 1001",
		"snat ip6 to ip6 saddr:20000-20499", "th sport 20000-21999 snat ip to ip saddr:32768-60999"} {
		if !strings.Contains(told, part) {
			t.Errorf("%q is not in\n%s", part, told)
		}
	}
}
