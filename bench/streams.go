package main

import (
	"fmt"
	"io"
	"net/http"
	"os/exec"
	"time"
)

// measureStreams reads all tide readings in each format, beside psql's own copy of the same rows to CSV: how many times as long
// it takes, and by how much the service grows.
func measureStreams(url, harbour, token string, pid int) ([]figure, error) {
	const rows = "select station, read_at, height_m from harbour.tide_reading order by read_at desc, station"
	formats := []string{"json", "ndjson", "csv", "xml"}
	best := map[string]float64{}
	note := func(name string, took time.Duration) {
		if known, ok := best[name]; !ok || took.Seconds() < known {
			best[name] = took.Seconds()
		}
	}
	before, err := residentMB(pid)
	if err != nil {
		return nil, err
	}
	most := before
	for range 3 { // the best of three, one after the other in turn
		start := time.Now()
		cmd := exec.Command("psql", harbour, "-qc", "copy ("+rows+") to stdout (format csv, header)")
		cmd.Stdout = io.Discard
		if err := cmd.Run(); err != nil {
			return nil, fmt.Errorf("psql: %w", err)
		}
		note("psql", time.Since(start))
		for _, format := range formats {
			start := time.Now()
			req, err := http.NewRequest(http.MethodGet, url+"/api/saltmere/tide_readings?top=1000000&format="+format, nil)
			if err != nil {
				return nil, err
			}
			req.Header.Set("Authorization", "Bearer "+token)
			req.Header.Set("Accept-Encoding", "identity")
			res, err := http.DefaultClient.Do(req)
			if err != nil {
				return nil, err
			}
			n, err := io.Copy(io.Discard, res.Body)
			res.Body.Close()
			if err != nil || res.StatusCode != http.StatusOK || n < 5<<20 {
				return nil, fmt.Errorf("%s: %s, %d bytes: %w", format, res.Status, n, err)
			}
			note(format, time.Since(start))
			now, err := residentMB(pid)
			if err != nil {
				return nil, err
			}
			most = max(most, now)
		}
	}
	var figures []figure
	for _, format := range formats {
		figures = append(figures, figure{"250,000 rows, " + format, best[format] / best["psql"], "x psql's copy to CSV", 3})
	}
	return append(figures, figure{"growth while streaming", most - before, "MB", 60}), nil
}
