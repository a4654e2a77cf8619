// Command load sends a mix of requests at a steady rate to a Dravin with a large
// estate and tells how long the answers take. The loop is open: a request goes
// out when its time has come, whether or not others have been answered, and what
// it waited for us counts. It starts a server and a database of its own on
// loopback, runs on one core, and ends by itself.
package main

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"flag"
	"fmt"
	"io"
	"math/rand/v2"
	"net"
	"net/http"
	"net/url"
	"os"
	"os/exec"
	"os/signal"
	"path/filepath"
	"runtime"
	"slices"
	"sync"
	"syscall"
	"time"

	"dravin/store/cluster"
)

func main() {
	rate := flag.Int("rate", 500, "requests a second")
	seconds := flag.Int("seconds", 30, "how long, at most 600")
	sites := flag.Int("sites", 300, "sites of the estate, each with a link to the head garden")
	writes := flag.Duration(
		"write-every", 0, "change the large estate this often; 0: only a small design beside it, once a second",
	)
	binary := flag.String("binary", "bin/dravin", "the server")
	flag.Parse()
	runtime.GOMAXPROCS(1)
	signal.Ignore(syscall.SIGPIPE) // what was started must be ended, whoever reads
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	defer stop()
	if err := run(ctx, *rate, min(*seconds, 600), *sites, *writes, *binary); err != nil {
		fmt.Fprintln(os.Stderr, "load:", err)
		os.Exit(1)
	}
}

func run(ctx context.Context, rate, seconds, sites int, writes time.Duration, binary string) error {
	dir, err := os.MkdirTemp("", "dravin-load-*")
	if err != nil {
		return err
	}
	defer os.RemoveAll(dir)
	if err := os.Chmod(dir, 0o755); err != nil {
		return err
	}
	pg, err := cluster.Start(ctx, filepath.Join(dir, "pg"))
	if err != nil {
		return err
	}
	defer func() { _ = pg.Stop(context.WithoutCancel(ctx)); _ = cluster.Remove(filepath.Join(dir, "pg")) }()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return err
	}
	listen := l.Addr().String()
	l.Close()
	server := exec.Command(
		binary, "serve", "--listen", listen, "--database", pg.URL, "--key-file", filepath.Join(dir, "key"),
	)
	if err := server.Start(); err != nil {
		return err
	}
	defer func() { _ = server.Process.Signal(syscall.SIGTERM); _ = server.Wait() }()
	c := newClient("http://" + listen)
	if err := c.prepare(sites); err != nil {
		return err
	}
	c.writes = writes
	c.load(ctx, rate/5, 4) // what is worked out once is worked out before
	c.report(c.load(ctx, rate, seconds), rate, seconds, sites)
	return nil
}

// client knows the estate that it asks about.
type client struct {
	at     string
	http   http.Client
	large  string // path of the design
	small  string
	ids    []string // of objects
	links  []string
	hosts  []string
	writes time.Duration

	mu    sync.Mutex
	marks map[string]string // as a browser's cache has them
}

func newClient(at string) *client {
	return &client{
		at: at, marks: map[string]string{},
		http: http.Client{Timeout: 30 * time.Second, Transport: &http.Transport{MaxIdleConnsPerHost: 200}},
	}
}

// prepare makes the designs and learns what is in the large one.
func (c *client) prepare(sites int) error {
	var err error
	for range 200 {
		var answer *http.Response
		if answer, err = c.http.Get(c.at + "/healthz"); err == nil {
			answer.Body.Close()
			break
		}
		time.Sleep(50 * time.Millisecond)
	}
	if err != nil {
		return err
	}
	for to, file := range map[*string]string{
		&c.large: estate(sites), &c.small: "dravin: 1\nname: Small\nsites:\n  - name: Yew Hut\n",
	} {
		var made struct{ ID string }
		if err := c.post("/api/designs", map[string]string{"from": "file", "file": file}, &made); err != nil {
			return err
		}
		*to = "/api/designs/" + made.ID
	}
	var stock struct {
		Rows []struct {
			Object struct{ ID, Kind string }
		}
	}
	var links []struct{ ID string }
	if err := errors.Join(c.get(c.large+"/stock", &stock), c.get(c.large+"/links", &links)); err != nil {
		return err
	}
	for _, r := range stock.Rows {
		c.ids = append(c.ids, r.Object.ID)
		if r.Object.Kind == "endpoint" {
			c.hosts = append(c.hosts, r.Object.ID)
		}
	}
	for _, l := range links {
		c.links = append(c.links, l.ID)
	}
	return nil
}

// estate is a design file with a head garden and field stations that are linked to
// it.
func estate(sites int) string {
	var b bytes.Buffer
	fmt.Fprintln(
		&b,
		"dravin: 1\nname: Large estate\nsegments:\n  - name: science\nsites:\n  - name: Marrow Hill\n    gateways:\n    "+
			"  - name: gateway\n        addresses: 198.51.100.1\n    lans:\n      - name: data room\n        prefixes: "+
			"10.208.0.0/24\n        endpoints:\n          - name: logger\n            addresses: 10.208.0.10",
	)
	for n := range sites {
		fmt.Fprintf(
			&b,
			"  - name: Station %d\n    gateways:\n      - name: gateway\n        addresses: 203.0.%d.%d\n    lans:\n",
			n+1, 113+n/250, n%250+1,
		)
		for k := range 2 {
			fmt.Fprintf(
				&b,
				"      - name: plot %d\n        prefixes: 10.%d.%d.0/24\n        endpoints:\n          - name: host %d\n      "+
					"      addresses: 10.%d.%d.10\n            answers: tcp/502\n",
				k+1,
				212+(2*n+k)/256,
				(2*n+k)%256,
				k+1,
				212+(2*n+k)/256,
				(2*n+k)%256,
			)
		}
	}
	fmt.Fprintln(&b, "links:")
	for n := range sites {
		fmt.Fprintf(
			&b,
			"  - name: Station %[1]d to Marrow Hill\n    routing: static\n    ends:\n      - gateway: "+
				"station-%[1]d/gateway\n        routes: 10.208.0.0/24\n      - gateway: marrow-hill/gateway\n        routes: "+
				"[10.%[2]d.%[3]d.0/24, 10.%[4]d.%[5]d.0/24]\n    tunnels:\n      - name: tunnel 1\n        outside: "+
				"[203.0.%[6]d.%[7]d, 198.51.100.1]\n        inside: [169.254.%[8]d.%[9]d/30, 169.254.%[8]d.%[10]d/30]\n",
			n+1,
			212+(2*n)/256,
			(2*n)%256,
			212+(2*n+1)/256,
			(2*n+1)%256,
			113+n/250,
			n%250+1,
			128+n/64,
			n%64*4+1,
			n%64*4+2,
		)
	}
	fmt.Fprintln(&b, "intents:")
	for n := range sites / 5 {
		fmt.Fprintf(
			&b,
			"  - name: logger polls station %[1]d\n    from: marrow-hill/data-room/logger\n    to: "+
				"station-%[1]d/plot-1/host-1\n    service: tcp/502\n",
			n+1,
		)
	}
	return b.String()
}

func (c *client) post(path string, body, out any) error {
	text, err := json.Marshal(body)
	if err != nil {
		return err
	}
	answer, err := c.http.Post(c.at+path, "application/json", bytes.NewReader(text))
	if err != nil {
		return err
	}
	return decode(answer, out)
}

func (c *client) get(path string, out any) error {
	answer, err := c.http.Get(c.at + path)
	if err != nil {
		return err
	}
	return decode(answer, out)
}

func decode(answer *http.Response, out any) error {
	defer answer.Body.Close()
	text, err := io.ReadAll(answer.Body)
	if err != nil {
		return err
	}
	if answer.StatusCode >= 300 {
		return fmt.Errorf("%s: %.300s", answer.Status, text)
	}
	return json.Unmarshal(text, out)
}

// view is one kind of request and how often it comes.
type view struct {
	name  string
	share int
	path  func() string
}

func (c *client) views() []view {
	fixed := func(path string) func() string { return func() string { return c.large + path } }
	one := func(list []string) string { return list[rand.IntN(len(list))] }
	return []view{
		{"state", 20, fixed("")},
		{"estate", 10, fixed("/estate")},
		{"overlaps", 5, fixed("/overlaps")},
		{"links", 8, fixed("/links")},
		{"findings", 8, fixed("/findings")},
		{"stock", 4, fixed("/stock")},
		{"intents", 5, fixed("/intents")},
		{"history", 2, fixed("/history")},
		{"object", 16, func() string { return c.large + "/objects/" + one(c.ids) }},
		{"link", 8, func() string { return c.large + "/links/" + one(c.links) }},
		{"walk", 7, func() string {
			return c.large + "/walk?service=tcp%2F502&from=" + one(c.hosts) + "&to=" + one(c.hosts)
		}},
		{
			"search", 7,
			func() string { return c.large + "/search?q=" + url.QueryEscape(fmt.Sprint("station ", rand.IntN(300))) },
		},
	}
}

// took is one answer.
type took struct {
	name    string
	latency time.Duration // from when the request was due
	status  int           // 0: none came
	bytes   int64
}

func (c *client) load(ctx context.Context, rate, seconds int) []took {
	var bag []view
	for _, v := range c.views() {
		for range v.share {
			bag = append(bag, v)
		}
	}
	total := rate * seconds
	out := make([]took, total, total+seconds*100)
	var wait sync.WaitGroup
	ending := make(chan struct{})
	extra := make(chan took, 10_000)
	wait.Go(func() { c.write(extra, ending) })
	start := time.Now()
	for n := range total {
		if ctx.Err() != nil {
			out = out[:n]
			break
		}
		due := start.Add(time.Duration(n) * time.Second / time.Duration(rate))
		time.Sleep(time.Until(due))
		v := bag[rand.IntN(len(bag))]
		at := &out[n]
		wait.Go(func() { *at = c.ask(v.name, v.path(), due) })
	}
	close(ending)
	wait.Wait()
	close(extra)
	for t := range extra {
		out = append(out, t)
	}
	return out
}

// ask gets as a browser does: packed, and with the mark of what it has already.
func (c *client) ask(name, path string, due time.Time) took {
	r, err := http.NewRequest(http.MethodGet, c.at+path, nil)
	if err != nil {
		return took{name: name}
	}
	r.Header.Set("Accept-Encoding", "gzip")
	c.mu.Lock()
	if mark := c.marks[path]; mark != "" && rand.IntN(2) == 0 { // the other half comes with an empty cache
		r.Header.Set("If-None-Match", mark)
	}
	c.mu.Unlock()
	answer, err := c.http.Do(r)
	if err != nil {
		return took{name: name, latency: time.Since(due)}
	}
	n, _ := io.Copy(io.Discard, answer.Body)
	answer.Body.Close()
	c.mu.Lock()
	c.marks[path] = answer.Header.Get("ETag")
	c.mu.Unlock()
	return took{name, time.Since(due), answer.StatusCode, n}
}

// write changes a design again and again, as people do beside those who look.
func (c *client) write(out chan<- took, ending <-chan struct{}) {
	every, path := c.writes, c.large
	if every == 0 {
		every, path = time.Second, c.small
	}
	tick := time.NewTicker(every)
	defer tick.Stop()
	for n := 0; ; n++ {
		select {
		case <-ending:
			return
		case due := <-tick.C:
			var state struct{ Position int64 }
			id := fmt.Sprint("yew", n)
			err := c.get(path, &state)
			if err == nil {
				err = c.post(
					path+"/changes",
					map[string]any{
						"base":   state.Position,
						"reason": "a hut",
						"edits": []any{
							map[string]any{
								"op": "put",
								"id": id,
								"object": map[string]any{
									"id":   id,
									"kind": "site",
									"name": fmt.Sprint("Yew Hut ", n),
									"body": map[string]any{},
								},
							},
						},
					},
					&state,
				)
			}
			t := took{name: "change", latency: time.Since(due), status: 200}
			if err != nil {
				t.status = 500
			}
			out <- t
		}
	}
}

func (c *client) report(all []took, rate, seconds, sites int) {
	fmt.Printf(
		"%d sites, %d requests a second for %d s, one core for the client, %d for all\n", sites, rate, seconds,
		runtime.NumCPU(),
	)
	fmt.Printf(
		"%-10s %8s %8s %8s %8s %8s %8s %8s\n", "", "count", "p50 ms", "p95 ms", "p99 ms", "max ms", "failed", "304s",
	)
	names := []string{"all"}
	for _, v := range c.views() {
		names = append(names, v.name)
	}
	for _, name := range append(names, "change") {
		var times []time.Duration
		failed, unchanged := 0, 0
		for _, t := range all {
			if name != "all" && t.name != name {
				continue
			}
			times = append(times, t.latency)
			if t.status == 0 || t.status >= 400 {
				failed++
			}
			if t.status == http.StatusNotModified {
				unchanged++
			}
		}
		if len(times) == 0 {
			continue
		}
		slices.Sort(times)
		at := func(q float64) float64 { return times[int(q*float64(len(times)-1))].Seconds() * 1000 }
		fmt.Printf(
			"%-10s %8d %8.1f %8.1f %8.1f %8.1f %8d %8d\n", name, len(times), at(.5), at(.95), at(.99), at(1), failed,
			unchanged,
		)
	}
}
