package cli

import (
	"encoding/json"
	"fmt"
	"net/http"
	"strings"

	"eagerwindow/internal/core/statement"
)

// plan prints how the database answers a request: the statement, the steps with the rows that each hands on, and what would
// spare it work; before a write of many rows, how many there would be.
func (a *app) plan(method string, text []byte) error {
	var e struct {
		SQL       string             `json:"sql"`
		Arguments []any              `json:"arguments"`
		Took      float64            `json:"took_ms"`
		Advice    []statement.Advice `json:"advice"`
		Plan      json.RawMessage    `json:"plan"`
		Rows      *int64             `json:"rows"`
	}
	if err := json.Unmarshal(text, &e); err != nil {
		return fmt.Errorf("read the plan: %w", err)
	}
	explained, err := statement.ReadExplained(e.Plan)
	if err != nil {
		return err
	}
	if e.Rows != nil {
		fmt.Fprintf(a.Out, "%s would be %s; nothing was.\n\n", counted(*e.Rows, "row"),
			map[string]string{http.MethodPatch: "changed", http.MethodDelete: "deleted"}[method])
	}
	fmt.Fprintln(a.Out, e.SQL)
	for i, arg := range e.Arguments {
		fmt.Fprintf(a.Out, "  $%d = %v\n", i+1, arg)
	}
	fmt.Fprintln(a.Out)
	a.step(explained.Plan, 0)
	fmt.Fprintf(a.Out, "\n%.1f ms\n", e.Took)
	for _, advice := range e.Advice {
		fmt.Fprintln(a.Out, "advice:", advice.Message)
	}
	return nil
}

func (a *app) step(s *statement.Step, depth int) {
	line := strings.Repeat("  ", depth) + s.Type
	if s.Relation != "" {
		line += " on " + s.Relation
	}
	if s.Index != "" {
		line += " by " + s.Index
	}
	switch {
	case s.Loops == 0:
		line += ": never run"
	case s.Loops > 1:
		line += fmt.Sprintf(": %.0f rows, %.0f times", s.Rows, s.Loops)
	default:
		line += fmt.Sprintf(": %.0f rows", s.Rows)
	}
	if s.Removed > 0 {
		line += fmt.Sprintf(", %.0f read in vain", s.Removed)
	}
	fmt.Fprintln(a.Out, line)
	for _, inner := range s.Plans {
		a.step(inner, depth+1)
	}
}
