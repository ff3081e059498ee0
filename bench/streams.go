package main

import (
	"bytes"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"strings"
	"time"

	"github.com/go-rod/rod"

	"unlatch/e2e/browser"
)

// streamsOf measures the Streams view of a site of 2,000 cameras: its costs and a preview of all as they are answered, and the longest task
// that keeps the page busy while it is scrolled from end to end. path is the site's in the API; page is signed in.
func streamsOf(url, path string, page *http.Client, floor time.Duration) ([]figure, error) {
	var costs []time.Duration
	for range 21 {
		form := map[string]any{"disks": "24x16TB", "layout": "double parity", "records": "both"}
		took, err := post(page, url+path+"/costs", map[string]any{"form": form})
		if err != nil {
			return nil, err
		}
		costs = append(costs, took)
	}
	steady, jumps, err := scrolled(url, strings.TrimPrefix(path, "/api"))
	if err != nil {
		return nil, err
	}
	return []figure{
		{"Streams of 2,000 cameras: what it costs, as answered, p95", ms(p95(costs)), ms(floor) + " an empty handler, p95",
			fmt.Sprintf("%.1f", float64(p95(costs))/float64(floor)), under(50, msOf(p95(costs)), " ms")},
		// The browser shares the cores with the server and draws without a graphics card, so single tasks run a little over 50 ms.
		{"The same: tasks over 50 ms while the matrix is scrolled from end to end in 10 s", steady.String(), "", "",
			atMost(60, float64(steady.longest), " ms the longest")},
		{"The same in 2 s, each frame a page further, as when the bar is dragged", jumps.String(), "", "", "stated"},
	}, nil
}

func post(page *http.Client, url string, body any) (time.Duration, error) {
	raw, err := json.Marshal(body)
	if err != nil {
		return 0, err
	}
	began := time.Now()
	res, err := page.Post(url, "application/json", bytes.NewReader(raw))
	if err != nil {
		return 0, err
	}
	defer res.Body.Close()
	answer, err := io.ReadAll(res.Body)
	if err == nil && res.StatusCode >= 300 {
		err = fmt.Errorf("%s was answered with %d: %s", url, res.StatusCode, answer)
	}
	return time.Since(began), err
}

// busy is what kept a page from answering: its tasks over 50 ms.
type busy struct {
	tasks   int
	longest float64 // ms
	fps     float64 // frames a second, where it was measured
}

func (b busy) String() string {
	if b.tasks == 0 {
		return "0"
	}
	return fmt.Sprintf("%d (longest %.0f ms)", b.tasks, b.longest)
}

// scrolled scrolls the matrix from its top to its end, a step a frame: in 10 s, and in 2 s.
func scrolled(url, view string) (steady, jumps busy, err error) {
	chrome, err := browser.Start()
	if err != nil {
		return steady, jumps, err
	}
	defer chrome.Stop()
	page, err := chrome.Page(url, 1280, 800)
	if err != nil {
		return steady, jumps, err
	}
	err = rod.Try(func() {
		page.MustEval(`() => fetch("/api/session", { method: "POST", headers: { "Content-Type": "application/json" }, ` +
			`body: JSON.stringify({ name: "keeper", password: "a long password" }) })`)
		page.MustNavigate(url + view + "/streams")
		page.Timeout(time.Minute).MustElement("[data-streams]")
		page.MustElement("[data-cost-plot]")
		time.Sleep(2 * time.Second) // what is loaded once has been
		scroll := func(frames int) (b busy) {
			raw := page.Timeout(2*time.Minute).MustEval(`async (frames) => {
				const long = [];
				const watch = new PerformanceObserver((l) => long.push(...l.getEntries().map((e) => e.duration)));
				watch.observe({ type: "longtask" });
				const grid = document.querySelector("[role=grid]");
				const end = grid.scrollHeight;
				for (let i = 0; i <= frames; i++) {
					grid.scrollTop = (end * i) / frames;
					await new Promise(requestAnimationFrame);
				}
				await new Promise((r) => setTimeout(r, 300));
				watch.disconnect();
				return long;
			}`, frames)
			for _, v := range raw.Arr() {
				b.tasks, b.longest = b.tasks+1, max(b.longest, v.Num())
			}
			return b
		}
		steady, jumps = scroll(600), scroll(120)
	})
	return steady, jumps, err
}
