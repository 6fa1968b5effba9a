package e2e

import (
	"fmt"
	"testing"
	"time"

	"tollgate.example/key/internal/store"
	"tollgate.example/key/test/e2e/browser"
)

// A hundred thousand attempts are scrolled through: older ones come as their place comes near, and only those that are
// near to what is seen are in the page.
func TestConsoleScrollsThroughManyAttempts(t *testing.T) {
	const many = 100_000
	w := start(t)
	w.basic("auto", "127.0.0.1")
	at := time.Now().Add(-time.Hour)
	for i := range many {
		for w.app.Attempts.Added()-w.app.Attempts.Len() > 4000 { // as fast as they are written
			time.Sleep(time.Millisecond)
		}
		w.app.Attempts.Add(&store.Attempt{At: at.Add(time.Duration(i) * time.Millisecond), Verdict: "refused",
			Reason: "person.unknown", Client: "np-switch-1", Sent: fmt.Sprintf("p%05d", i), Place: "port 1/0/7"})
	}
	w.app.Attempts.Flush(t.Context())
	p := pageSteps{signedIn(t, w)}
	steps(t, p.open(w.app.URL+"/attempts"), p.see(fmt.Sprintf("p%05d", many-1)), p.click("Pause"))
	// how many frames are late on this machine, now, where nothing new comes in
	type rest struct{ Frames, Over int }
	still, err := browser.Eval[rest](p.Page, `new Promise((done) => {
		const main = document.querySelector("main"), begun = performance.now();
		let last = begun, frames = 0, over = 0;
		const step = (now) => {
			if (frames++ > 5 && now - last > 50) over++;
			last = now;
			main.scrollTop = frames % 2 ? 600 : 0;
			if (now - begun > 4000) return done({ frames, over });
			requestAnimationFrame(step);
		};
		requestAnimationFrame(step);
	})`)
	if err != nil {
		t.Fatal(err)
	}
	// for nine seconds, by 300 pixels a frame, some nine rows, as long as new rows come in
	type travel struct {
		Frames, Over, Longest, Rows, Seconds int
		Last                                 string
	}
	got, err := browser.Eval[travel](p.Page, `new Promise((done) => {
		const main = document.querySelector("main"), begun = performance.now();
		let last = begun, frames = 0, over = 0, longest = 0, rows = 0, idle = 0;
		const step = (now) => {
			const took = now - last;
			last = now;
			if (frames++ > 5) {
				if (took > 50) over++;
				longest = Math.max(longest, took);
			}
			rows = Math.max(rows, main.querySelectorAll("tbody tr").length);
			const before = main.scrollTop;
			main.scrollTop += 300;
			idle = main.scrollTop === before ? idle + 1 : 0;
			if (idle > 120 || now - begun > 9000) {
				done({ frames, over, longest: Math.round(longest), rows, seconds: Math.round((now - begun) / 1000),
					last: [...main.querySelectorAll("tbody tr[tabindex]")].at(-1).innerText.split("\t").slice(0, 4).join(" ") });
				return;
			}
			requestAnimationFrame(step);
		};
		requestAnimationFrame(step);
	})`)
	if err != nil {
		t.Fatal(err)
	}
	t.Logf(
		"%d frames in %d s: %d over 50 ms, the longest %d ms; at most %d rows in the page; the last is %s",
		got.Frames,
		got.Seconds,
		got.Over,
		got.Longest,
		got.Rows,
		got.Last,
	)
	// a loaded machine is late by itself, and each new page of rows may cost a frame
	if allowed := got.Frames/4 + 3*got.Frames*still.Over/still.Frames; got.Over > allowed {
		t.Errorf("%d of %d frames took more than 50 ms; %d of %d do where nothing new comes in", got.Over, got.Frames,
			still.Over, still.Frames)
	}
	if got.Rows > 500 {
		t.Errorf("%d rows are in the page at once", got.Rows)
	}
	steps(t, func() error {
		_, err := browser.Eval[bool](p.Page, `(document.querySelector("main").scrollTop = 0, true)`)
		return err
	}, p.see(fmt.Sprintf("p%05d", many-1)))
}
