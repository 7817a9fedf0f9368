package main

import (
	"fmt"
	"io"
	"net/http"
	"strings"
	"time"
)

// measureBulk writes ten thousand rows in one request, half of them new: the best of three, and by how much the service grows.
func measureBulk(url, token string, pid int) ([]figure, error) {
	before, err := residentMB(pid)
	if err != nil {
		return nil, err
	}
	best, most := time.Hour, before
	for range 3 {
		var body strings.Builder
		body.WriteString(`{"@context":"#$delta","value":[`)
		for i := range 10_000 {
			if i > 0 {
				body.WriteByte(',')
			}
			if i%2 == 0 {
				fmt.Fprintf(&body, `{"id":%d,"remarks":"Late by %d minutes.","etd":"2026-07-03T10:00:00Z"}`, i+1, i)
			} else {
				fmt.Fprintf(&body, `{"vessel_id":%d,"eta":"2028-01-01T00:00:00Z","draught_m":5.25,"remarks":"Planned."}`, 1+i%300)
			}
		}
		body.WriteString("]}")
		req, err := http.NewRequest(http.MethodPatch, url+"/api/saltmere/port_calls", strings.NewReader(body.String()))
		if err != nil {
			return nil, err
		}
		req.Header.Set("Authorization", "Bearer "+token)
		req.Header.Set("Content-Type", "application/json")
		start := time.Now()
		res, err := http.DefaultClient.Do(req)
		if err != nil {
			return nil, err
		}
		text, _ := io.ReadAll(res.Body)
		res.Body.Close()
		if res.StatusCode != http.StatusNoContent || res.Header.Get("Rows-Affected") != "10000" {
			return nil, fmt.Errorf("10,000 rows: %s %s", res.Status, text)
		}
		best = min(best, time.Since(start))
		now, err := residentMB(pid)
		if err != nil {
			return nil, err
		}
		most = max(most, now)
	}
	return []figure{{"10,000 rows in a delta", best.Seconds(), "s", 2}, {"growth while writing", most - before, "MB", 100}}, nil
}
