package main

import (
	"context"
	"fmt"
	"io"
	"net/http"
	"os"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"

	"eagerwindow/demo"
	"eagerwindow/internal/core/access"
	"eagerwindow/internal/core/describe"
	"eagerwindow/internal/core/window"
	"eagerwindow/internal/localpg"
	"eagerwindow/internal/postgres"
	"eagerwindow/internal/service"
	"eagerwindow/internal/windows"
)

// A large database: the harbour among a thousand tables more, of twenty columns each and with a foreign key to the one before.
const (
	largeName    = "large"
	largeTables  = 1000
	largeColumns = 20
)

func makeLarge(ctx context.Context, pg *localpg.Server) (string, error) {
	if _, err := pg.CreateDatabase(ctx, largeName, demo.Database); err != nil {
		return "", err
	}
	conn, err := pgx.Connect(ctx, pg.DSN(largeName))
	if err != nil {
		return "", err
	}
	defer conn.Close(ctx)
	types := []string{"text", "integer", "numeric(12,2)", "timestamptz", "boolean", "date", "varchar(40)", "double precision", "uuid"}
	for from := 0; from < largeTables; from += 100 { // in one transaction, the locks would be too many
		var sql strings.Builder
		for t := from; t < from+100; t++ {
			fmt.Fprintf(&sql, "create table t%d (id int primary key", t)
			if t > 0 {
				fmt.Fprintf(&sql, ", before int references t%d", t-1)
			} else {
				sql.WriteString(", before int")
			}
			for c := 2; c < largeColumns; c++ {
				fmt.Fprintf(&sql, ", column_%d %s", c, types[c%len(types)])
			}
			sql.WriteString(");")
		}
		if _, err := conn.Exec(ctx, sql.String()); err != nil {
			return "", err
		}
	}
	return pg.DSN(largeName), nil
}

// publishLarge opens a window over all of it, for anyone to read.
func publishLarge(ctx context.Context, s *service.Service, dsn string) error {
	document, err := s.Open(ctx, largeName, dsn, nil, demo.Operator)
	if err != nil {
		return err
	}
	document = strings.Replace(document, "  reader:\n", "  reader:\n    anonymous: true\n", 1)
	if _, err := s.SaveDraft(ctx, largeName, document, demo.Operator); err != nil {
		return err
	}
	_, err = s.Publish(ctx, largeName, windows.NewRelease{Note: "", AllowBreaking: true}, demo.Operator)
	return err
}

// figure is one measurement with what it should stay under.
type figure struct {
	Name  string  `json:"name"`
	Value float64 `json:"value"`
	Unit  string  `json:"unit"`
	Under float64 `json:"under"`
}

// measureLarge measures what is done once for a database or a document: the best of three, as the machine is noisy.
func measureLarge(ctx context.Context, dsn string) ([]figure, error) {
	source, err := postgres.Connect(ctx, dsn)
	if err != nil {
		return nil, err
	}
	defer source.Close()
	best, size := map[string]float64{}, 0.0 // of the description, in MB
	time1 := func(name string, do func() error) error {
		start := time.Now()
		if err := do(); err != nil {
			return fmt.Errorf("%s: %w", name, err)
		}
		took := time.Since(start).Seconds()
		if known, ok := best[name]; !ok || took < known {
			best[name] = took
		}
		return nil
	}
	for range 3 {
		cat, err := postgres.Introspect(ctx, source)
		if err != nil {
			return nil, err
		}
		document, err := window.Draft(largeName, cat)
		if err != nil {
			return nil, err
		}
		var policy *access.Policy
		steps := []struct {
			name string
			do   func() error
		}{
			{"introspect", func() error { _, err := postgres.Introspect(ctx, source); return err }},
			{"bind", func() error {
				doc, err := window.Parse([]byte(document), os.LookupEnv)
				if err != nil {
					return err
				}
				policy, err = access.Bind(doc, cat)
				return err
			}},
			{"description", func() error {
				scope, err := policy.Scope(access.Caller{Subject: "bench", Operator: true})
				if err != nil {
					return err
				}
				text, err := describe.Write(policy, scope, describe.Place{Server: "http://127.0.0.1/api/large"}, describe.Form{Compact: true})
				size = float64(len(text)) / 1e6
				return err
			}},
			{"metadata", func() error {
				scope, err := policy.Scope(access.Caller{Subject: "bench", Operator: true})
				if err != nil {
					return err
				}
				_, err = describe.CSDL(policy.Model(), scope, "4.01").XML()
				return err
			}},
		}
		for _, step := range steps {
			if err := time1(step.name, step.do); err != nil {
				return nil, err
			}
		}
	}
	return []figure{{"introspect 1,000 tables", best["introspect"], "s", 2}, {"bind", best["bind"], "s", 1},
		{"description", best["description"], "s", 1}, {"description", size, "MB", 8},
		{"metadata", best["metadata"], "s", 1}}, nil
}

// memory is the memory of the service with the large window in it, after its description and metadata have been asked for.
func memory(url string, pid int) (figure, error) {
	for _, path := range []string{"/openapi.json", "/$metadata"} {
		res, err := http.Get(url + "/api/large" + path)
		if err != nil {
			return figure{}, err
		}
		_, err = io.Copy(io.Discard, res.Body)
		res.Body.Close()
		if err != nil || res.StatusCode != http.StatusOK {
			return figure{}, fmt.Errorf("%s: %s %w", path, res.Status, err)
		}
	}
	resident, err := residentMB(pid)
	return figure{"memory of the service", resident, "MB", 200}, err
}

// residentMB is the memory that a process has now.
func residentMB(pid int) (float64, error) {
	text, err := os.ReadFile(fmt.Sprintf("/proc/%d/status", pid))
	if err != nil {
		return 0, err
	}
	_, after, _ := strings.Cut(string(text), "VmRSS:")
	var kb float64
	_, err = fmt.Sscan(after, &kb)
	return kb / 1024, err
}

func printFigures(out io.Writer, figures []figure) {
	for _, f := range figures {
		fmt.Fprintf(out, "%24s  %.2f %s (under %.0f)\n", f.Name, f.Value, f.Unit, f.Under)
	}
}
