// Command bench measures Eager Window beside handlers written by hand, in one run, alternating, against one database, at 16
// connections. Each side is a process of its own, and so is the load. It prints the medians of requests a second, p50 and p99, and
// the median of the rounds' ratios with its standard error, as a table and, with -json FILE, as JSON. Only the ratios mean something:
// machines are noisy, and the two sides of one round run next to each other. More -rounds make the error smaller. A round during which the
// host took the processors away is run again.
package main

import (
	"bufio"
	"context"
	_ "embed"
	"encoding/json"
	"flag"
	"fmt"
	"io"
	"log"
	"log/slog"
	"math"
	"net"
	"net/http"
	_ "net/http/pprof" // of the process under load, at BENCH_PPROF
	"os"
	"os/exec"
	"slices"
	"strconv"
	"strings"
	"text/tabwriter"
	"time"

	"github.com/jackc/pgx/v5/pgxpool"

	"eagerwindow/demo"
	"eagerwindow/internal/client"
	"eagerwindow/internal/localpg"
	"eagerwindow/internal/server"
	"eagerwindow/internal/service"
)

const connections = 16

// race is one endpoint on both sides. The goal is what the ratio should reach.
type race struct {
	Name         string
	ours, hand   string
	goal         float64
	method, body string // of a write; %d in the body is another number each time, ROW in it or in the path another row, VESSEL another vessel
}

const chosen = "select=id,vessel_id,berth_code,status,eta,etd,arrived_at,draught_m,hazardous"

// Both sides write the same body, and answer with the row as stored.
const (
	newItem = `{"port_call_id":ROW,"description":"Oats %d","hs_code":"100400","tonnes":12.5}`
	newTime = `{"etd":"2026-07-03T10:00:00Z","remarks":"Late by %d minutes."}`
)

var races = []race{
	{"create", "/api/saltmere/cargo_items", "/cargo_items", 0.95, "POST", newItem},
	{"change", "/api/saltmere/port_calls/ROW?" + chosen, "/port_calls/ROW", 0.95, "PATCH", newTime},
	{"1 row by key", "/api/saltmere/port_calls/4711?" + chosen, "/port_calls/4711", 1.0, "", ""},
	{"list, 1 row", "/api/saltmere/port_calls?filter=status%20eq%20'departed'&orderby=eta%20desc&top=1&" + chosen,
		"/port_calls?status=departed&top=1", 0, "", ""},
	{"list, 20 rows", "/api/saltmere/port_calls?filter=status%20eq%20'departed'&orderby=eta%20desc&top=20&" + chosen,
		"/port_calls?status=departed&top=20", 1.4, "", ""},
	{"list, 1000 rows", "/api/saltmere/port_calls?filter=status%20eq%20'departed'&orderby=eta%20desc&top=1000&" + chosen,
		"/port_calls?status=departed&top=1000", 2.7, "", ""},
	{"20 rows, nested", "/api/saltmere/port_calls?filter=status%20eq%20'departed'&orderby=eta%20desc&top=20&" + chosen +
		"&expand=cargo_items(select=id,description,tonnes;orderby=id)", "/with_cargo?status=departed&top=20", 1.3, "", ""},
	{"20 rows, harbour/large", "/api/large/port_call?filter=status%20eq%20'departed'&orderby=eta%20desc&top=20&" + chosen,
		"/api/saltmere/port_calls?filter=status%20eq%20'departed'&orderby=eta%20desc&top=20&" + chosen, 1.0, "", ""},
	{"20 rows, guarded/open", "/api/guarded/port_calls?orderby=eta%20desc&top=20&" + chosen,
		"/api/open/port_calls?filter=status%20eq%20'departed'&orderby=eta%20desc&top=20&" + chosen, 0.95, "", ""},
	{"1000 rows, floor", "/api/saltmere/port_calls?filter=status%20eq%20'departed'&orderby=eta%20desc&top=1000&" + chosen,
		"/floor?status=departed&top=1000", 0.8, "", ""},
	// Last, as they fill tables that the others read.
	{"deep create", "/api/saltmere/port_calls?" + deepShown, "/port_calls", 1.0, "POST", newCall},
	{"deep create, row by row", "/api/saltmere/port_calls?" + deepShown, "/port_calls_row_by_row", 3.0, "POST", newCall},
}

// side is what one side of a race did.
type side struct {
	Rate float64 `json:"requests_per_second"`
	P50  float64 `json:"p50_ms"`
	P99  float64 `json:"p99_ms"`
}

type result struct {
	Name  string  `json:"name"`
	Ours  side    `json:"ours"`
	Hand  side    `json:"hand"`
	Ratio float64 `json:"ratio"`
	Error float64 `json:"standard_error"` // of the ratio
	Goal  float64 `json:"goal,omitempty"`
	Again int     `json:"disturbed_rounds,omitempty"`
}

func main() {
	log.SetFlags(0)
	rounds := flag.Int("rounds", 15, "rounds for each endpoint and side")
	length := flag.Duration("for", time.Second, "length of a round")
	file := flag.String("json", "", "write the results to this file too")
	only := flag.String("only", "", "only the endpoints whose name holds this")
	flag.Parse()
	var err error
	switch flag.Arg(0) {
	case "ours":
		err = serveOurs(flag.Arg(1), flag.Arg(2), flag.Arg(3))
	case "hand":
		err = serveHand(flag.Arg(1))
	default:
		err = run(*rounds, *length, *file, *only)
	}
	if err != nil {
		log.Fatal("bench: ", err)
	}
}

func run(rounds int, length time.Duration, file, only string) error {
	ctx := context.Background()
	dir, err := os.MkdirTemp("", "eager-bench-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(dir)
	if err := os.Chmod(dir, 0o755); err != nil {
		return err
	}
	pg, err := localpg.Start(ctx, localpg.Options{Dir: dir + "/postgres", Throwaway: true})
	if err != nil {
		return err
	}
	defer pg.Remove()
	harbour, records, err := demo.Prepare(ctx, pg, func(what string) { log.Print(what, " …") })
	if err != nil {
		return err
	}
	large, err := makeLarge(ctx, pg)
	if err != nil {
		return err
	}
	ours, pid, stopOurs, err := child("ours", harbour, records, large)
	if err != nil {
		return err
	}
	defer stopOurs()
	hand, _, stopHand, err := child("hand", harbour)
	if err != nil {
		return err
	}
	defer stopHand()
	l := lab{ours: ours, hand: hand, pid: pid, harbour: harbour, large: large, tokens: map[string]string{}}
	for _, c := range [][3]string{{demo.Window, "harbour-master-demo", "saltmere-harbour_master"}, {"guarded", "clerk", guardedSecret}} {
		if l.tokens[c[0]], err = (&client.Client{URL: ours}).ClientToken(ctx, c[0], c[1], c[2]); err != nil {
			return err
		}
	}
	results, err := l.races(only, rounds, length)
	if err != nil {
		return err
	}
	print(os.Stdout, results)
	var figures []figure
	if only == "" {
		if figures, err = l.figures(ctx); err != nil {
			return err
		}
		printFigures(os.Stdout, figures)
	}
	if file == "" {
		return nil
	}
	text, err := json.MarshalIndent(map[string]any{"races": results, "figures": figures}, "", "  ")
	if err != nil {
		return err
	}
	return os.WriteFile(file, append(text, '\n'), 0o644)
}

// lab is what is measured: both sides, our process, and the databases.
type lab struct {
	ours, hand     string // URLs
	pid            int
	harbour, large string            // DSNs
	tokens         map[string]string // by window
}

// races runs those whose names hold a text.
func (l lab) races(only string, rounds int, length time.Duration) ([]result, error) {
	var results []result
	for _, r := range races {
		if !strings.Contains(r.Name, only) {
			continue
		}
		other := l.hand
		if strings.HasPrefix(r.hand, "/api/") {
			other = l.ours
		}
		res, err := r.run(l.ours, other, l.tokens, rounds, length)
		if err != nil {
			return nil, fmt.Errorf("%s: %w", r.Name, err)
		}
		results = append(results, res)
	}
	return results, nil
}

// figures measures what has no other side.
func (l lab) figures(ctx context.Context) ([]figure, error) {
	figures, err := measureLarge(ctx, l.large)
	if err != nil {
		return nil, err
	}
	used, err := memory(l.ours, l.pid)
	if err != nil {
		return nil, err
	}
	streamed, err := measureStreams(l.ours, l.harbour, l.tokens[demo.Window], l.pid)
	if err != nil {
		return nil, err
	}
	written, err := measureBulk(l.ours, l.tokens[demo.Window], l.pid)
	return slices.Concat(figures, []figure{used}, streamed, written), err
}

func (r race) run(ours, hand string, tokens map[string]string, rounds int, length time.Duration) (result, error) {
	res := result{Name: r.Name, Goal: r.goal}
	var a, b []side
	var ratios []float64
	again := rounds // so many are run again
	for i := 0; i <= rounds; i++ {
		x, y, stolen, err := r.round(ours, hand, tokens, length, i%2 == 1)
		if err != nil {
			return res, err
		}
		switch {
		case i == 0: // it warms up: connections, statements, plans
		case stolen > mostStolen && again > 0:
			again--
			i--
		default:
			a, b, ratios = append(a, x), append(b, y), append(ratios, x.Rate/y.Rate)
		}
	}
	res.Ours, res.Hand, res.Ratio, res.Error, res.Again = medians(a), medians(b), median(ratios), standardError(ratios), rounds-again
	return res, nil
}

// round attacks both sides, one after the other, and says what share of the processors' time the host took away meanwhile.
func (r race) round(ours, hand string, tokens map[string]string, length time.Duration, handFirst bool) (x, y side, stolen float64,
	err error) {
	before := readClock()
	first := func() { x, err = r.attack(ours+r.ours, tokenFor(r.ours, tokens), length) }
	second := func() { y, err = r.attack(hand+r.hand, tokenFor(r.hand, tokens), length) }
	if handFirst { // neither side is always the one that comes second
		first, second = second, first
	}
	if first(); err == nil {
		second()
	}
	return x, y, readClock().stolenSince(before), err
}

// mostStolen is the share that the host may take of a round.
const mostStolen = 0.05

// clock is how long the processors have run so far, and how much of that the host took for others.
type clock struct{ all, stolen float64 }

// readClock reads it from /proc/stat (proc(5)). Where there is none, nothing is stolen.
func readClock() clock {
	text, _ := os.ReadFile("/proc/stat")
	var cpu string
	var user, nice, system, idle, wait, irq, softirq, steal float64
	if _, err := fmt.Sscan(string(text), &cpu, &user, &nice, &system, &idle, &wait, &irq, &softirq, &steal); err != nil {
		return clock{}
	}
	return clock{user + nice + system + idle + wait + irq + softirq + steal, steal}
}

func (c clock) stolenSince(before clock) float64 {
	return (c.stolen - before.stolen) / max(c.all-before.all, 1)
}

// tokenFor is the token for a path, "" where its window asks for none.
func tokenFor(path string, tokens map[string]string) string {
	parts := strings.Split(path, "/")
	if parts[1] != "api" {
		return ""
	}
	return tokens[parts[2]]
}

//go:embed wrk.lua
var script string

// writing makes each request a write of its own.
const writing = `
local n = 0
wrk.headers["Content-Type"] = "application/json"
request = function()
  n = n + 1
  local row = tostring(1 + n %% 10000)
  local at, body = string.gsub(%q, "ROW", row), string.gsub(%q, "ROW", row)
  body = string.gsub(body, "VESSEL", tostring(1 + n %% 400))
  return wrk.format(%q, at, nil, string.format(body, n))
end
`

// attack sends requests over 16 connections as fast as answers come. The load comes from wrk: a generator that shares the
// machine should cost as little as possible, else it is what is measured.
func (r race) attack(url, token string, length time.Duration) (side, error) {
	file, err := os.CreateTemp("", "round-*.lua")
	if err != nil {
		return side{}, err
	}
	defer os.Remove(file.Name())
	text := script
	if r.method != "" {
		at := url[strings.Index(url[len("http://"):], "/")+len("http://"):]
		text += fmt.Sprintf(writing, at, r.body, r.method)
	}
	if _, err := file.WriteString(text); err != nil {
		return side{}, err
	}
	if err := file.Close(); err != nil {
		return side{}, err
	}
	seconds := max(1, int(length.Round(time.Second).Seconds()))
	args := []string{"-t", "1", "-c", strconv.Itoa(connections), "-d", strconv.Itoa(seconds), "-s", file.Name()}
	if token != "" {
		args = append(args, "-H", "Authorization: Bearer "+token)
	}
	out, err := exec.Command("wrk", append(args, url)...).Output()
	if err != nil {
		return side{}, fmt.Errorf("run wrk (make bench installs it): %w", err)
	}
	_, round, _ := strings.Cut(string(out), "\nround ")
	var requests, micros, refused, broken, p50, p99 float64
	if _, err := fmt.Sscan(round, &requests, &micros, &refused, &broken, &p50, &p99); err != nil {
		return side{}, fmt.Errorf("read what wrk says: %w", err)
	}
	if refused+broken > 0 {
		return side{}, fmt.Errorf("%s: %.0f of %.0f requests were refused, %.0f broke off", url, refused, requests, broken)
	}
	return side{requests / micros * 1e6, p50 / 1000, p99 / 1000}, nil
}

// medians takes each figure's median by itself.
func medians(list []side) side {
	of := func(figure func(side) float64) float64 {
		v := make([]float64, len(list))
		for i, s := range list {
			v[i] = figure(s)
		}
		return median(v)
	}
	return side{of(func(s side) float64 { return s.Rate }), of(func(s side) float64 { return s.P50 }),
		of(func(s side) float64 { return s.P99 })}
}

func median(v []float64) float64 {
	slices.Sort(v)
	return v[len(v)/2]
}

// standardError is that of the median, by the quartiles, as one wild round should not count for much: of a normal distribution it is
// 1.25 deviations over the root of n, and a deviation is the quartiles' distance over 1.35.
func standardError(v []float64) float64 {
	slices.Sort(v)
	n := len(v)
	return 1.25 * (v[3*n/4] - v[n/4]) / 1.35 / math.Sqrt(float64(n))
}

func print(out io.Writer, results []result) {
	w := tabwriter.NewWriter(out, 0, 0, 2, ' ', tabwriter.AlignRight)
	fmt.Fprintln(w, "\tours req/s\tp50 ms\tp99 ms\thand req/s\tp50 ms\tp99 ms\tratio\t±\tgoal\tdisturbed\t")
	for _, r := range results {
		goal := "-"
		if r.Goal > 0 {
			goal = fmt.Sprintf("%.2f", r.Goal)
		}
		fmt.Fprintf(w, "%s\t%.0f\t%.2f\t%.2f\t%.0f\t%.2f\t%.2f\t%.2f\t%.2f\t%s\t%d\t\n", r.Name, r.Ours.Rate, r.Ours.P50, r.Ours.P99, r.Hand.Rate,
			r.Hand.P50, r.Hand.P99, r.Ratio, r.Error, goal, r.Again)
	}
	w.Flush()
}

// child starts this program again as one of the sides and returns its address.
func child(args ...string) (url string, pid int, stop func(), err error) {
	cmd := exec.Command(os.Args[0], args...)
	cmd.Stderr = os.Stderr
	out, err := cmd.StdoutPipe()
	if err != nil {
		return "", 0, nil, err
	}
	if err := cmd.Start(); err != nil {
		return "", 0, nil, err
	}
	stop = func() { _ = cmd.Process.Kill(); _ = cmd.Wait() }
	line, err := bufio.NewReader(out).ReadString('\n')
	if err != nil {
		stop()
		return "", 0, nil, fmt.Errorf("%s did not start: %w", args[0], err)
	}
	return strings.TrimSpace(line), cmd.Process.Pid, stop, nil
}

func listen(h http.Handler) error {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return err
	}
	if at := os.Getenv("BENCH_PPROF"); at != "" {
		go func() { log.Print(http.ListenAndServe(at, nil)) }()
		_ = os.Unsetenv("BENCH_PPROF")
	}
	fmt.Printf("http://%s\n", l.Addr())
	return server.HTTP(h).Serve(l)
}

func serveOurs(harbour, records, large string) error {
	ctx := context.Background()
	l := slog.New(slog.NewTextHandler(os.Stderr, &slog.HandlerOptions{Level: slog.LevelWarn}))
	service.TuneRuntime(l)
	s, err := service.Start(ctx, service.Options{Records: records, Secret: "a secret for benchmarks", Log: l})
	if err != nil {
		return err
	}
	if err := demo.Publish(ctx, s, harbour); err != nil {
		return err
	}
	if err := publishGuarded(ctx, s); err != nil {
		return err
	}
	if large != "" {
		if err := publishLarge(ctx, s, large); err != nil {
			return err
		}
	}
	return listen(server.New(s, service.Front{Log: l}))
}

func serveHand(harbour string) error {
	config, err := pgxpool.ParseConfig(harbour)
	if err != nil {
		return err
	}
	config.MaxConns = connections
	pool, err := pgxpool.NewWithConfig(context.Background(), config)
	if err != nil {
		return err
	}
	return listen(hand{pool}.routes())
}
