package live

import "testing"

func TestSlowListenersLoseAndAreTold(t *testing.T) {
	var h Hub[int]
	if h.Active() {
		t.Error("somebody listens to a new hub")
	}
	slow, quick := h.Listen(), h.Listen()
	for i := range queue + 10 {
		h.Send(i)
		<-quick.Events
	}
	if slow.Lost() != 10 || slow.Lost() != 0 || quick.Lost() != 0 {
		t.Error("losses are counted wrongly")
	}
	if first := <-slow.Events; first != 0 {
		t.Errorf("the first event is %d", first)
	}
	slow.Close()
	quick.Close()
	h.Send(1)
	if h.Active() || len(quick.Events) != 0 {
		t.Error("a closed listener listens")
	}
}

func TestListenersAreBounded(t *testing.T) {
	var h Hub[int]
	for range maxListeners {
		if h.Listen() == nil {
			t.Fatal("refused too early")
		}
	}
	if h.Listen() != nil {
		t.Error("one more than allowed listens")
	}
}
