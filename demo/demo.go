// Package demo makes the Port of Saltmere: a made-up harbour with its database, its window and its callers.
package demo

import (
	"context"
	"embed"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"github.com/jackc/pgx/v5"

	"eagerwindow/internal/core/fault"
	"eagerwindow/internal/localpg"
	"eagerwindow/internal/service"
	"eagerwindow/internal/windows"
)

//go:embed schema.sql
var schema string

//go:embed rows.sql
var rows string

// Document is the window document that release 1 is made of.
//
//go:embed saltmere.window.yaml
var Document string

// Suites are the harbour's suites of checks, which the service keeps.
//
//go:embed suites/*.yaml
var Suites embed.FS

// Names of the harbour.
const (
	Window   = "saltmere"
	Operator = "keeper@saltmere.example"
	Password = "open-the-window"
	Database = "saltmere"
	Issuer   = "https://id.saltmere.example" // of somebody else's tokens, which the window takes too
)

// Today is the day that the harbour lives in.
const Today = "2026-07-01"

// Client is a program that calls the harbour's API in the examples.
type Client struct {
	ID, Secret, Role string
	Claims           map[string]any
}

// Pilot is the pilot that pilot-demo stands for.
const Pilot = "db202dc9-ae78-ed03-c6e0-2d3c193ecfa8"

// Clients are one for each role that needs a token.
var Clients = []Client{
	{"agent-demo", "saltmere-agent", "agent", map[string]any{"agent_id": 3}},
	{"pilot-demo", "saltmere-pilot", "pilot", map[string]any{"pilot_id": Pilot}},
	{"office-demo", "saltmere-office", "office", nil},
	{"harbour-master-demo", "saltmere-harbour_master", "harbour_master", nil},
}

// Load fills an empty database with the harbour: about 330,000 rows in a few seconds.
func Load(ctx context.Context, dsn string) error {
	conn, err := pgx.Connect(ctx, dsn)
	if err != nil {
		return fmt.Errorf("connect to the harbour's database: %w", err)
	}
	defer conn.Close(ctx)
	for _, part := range []string{schema, rows} {
		if _, err := conn.Exec(ctx, part); err != nil {
			return fmt.Errorf("make the harbour: %w", err)
		}
	}
	return nil
}

// Ready reports whether the harbour is in the database already.
func Ready(ctx context.Context, dsn string) (bool, error) {
	conn, err := pgx.Connect(ctx, dsn)
	if err != nil {
		return false, err
	}
	defer conn.Close(ctx)
	var ready bool
	err = conn.QueryRow(ctx, "select coalesce((select relispopulated from pg_class "+
		"where oid = to_regclass('harbour.monthly_traffic')), false)").Scan(&ready)
	return ready, err
}

// Prepare gives a server the databases of the demo and fills the harbour where it is not there yet. It returns the DSNs of
// the harbour and of the records. tell hears of what takes time.
func Prepare(ctx context.Context, pg *localpg.Server, tell func(string)) (harbour, records string, err error) {
	for _, name := range []string{Database, "eager"} {
		if _, err := pg.CreateDatabase(ctx, name, ""); err != nil {
			return "", "", err
		}
	}
	harbour, records = pg.DSN(Database), pg.DSN("eager")
	ready, err := Ready(ctx, harbour)
	if err != nil || ready {
		return harbour, records, err
	}
	tell("Filling the harbour with 12,000 port calls and 250,000 tide readings")
	if err := pg.DropDatabase(ctx, Database); err != nil { // a start that was killed half way leaves a part
		return "", "", err
	}
	if _, err := pg.CreateDatabase(ctx, Database, ""); err != nil {
		return "", "", err
	}
	return harbour, records, Load(ctx, harbour)
}

// Publish makes the harbour's operator, source and clients, and release 1 where the window is new. The draft of a new window
// is left one small step ahead of the release.
func Publish(ctx context.Context, s *service.Service, harbour string) error {
	if err := s.SaveSource(ctx, Window, harbour); err != nil {
		return err
	}
	if _, err := s.Draft(ctx, Window); err == nil {
		return nil
	} else if f, ok := fault.From(err); !ok || f.Kind != fault.NotFound {
		return err
	}
	if err := s.SaveOperator(ctx, Operator, Password); err != nil {
		return err
	}
	if _, err := s.SaveDraft(ctx, Window, Document, Operator); err != nil {
		return fmt.Errorf("save the harbour's document: %w", err)
	}
	for _, c := range Clients {
		if err := s.SaveClient(ctx, Window, c.ID, c.Secret, []string{c.Role}, c.Claims); err != nil {
			return err
		}
	}
	if _, err := s.Publish(ctx, Window, windows.NewRelease{Note: "The first release."}, Operator); err != nil {
		return err
	}
	if _, err := s.SaveDraft(ctx, Window, Ahead(), Operator); err != nil {
		return err
	}
	return keepSuites(ctx, s)
}

func keepSuites(ctx context.Context, s *service.Service) error {
	files, err := Suites.ReadDir("suites")
	if err != nil {
		return err
	}
	for _, f := range files {
		text, err := Suites.ReadFile("suites/" + f.Name())
		if err != nil {
			return err
		}
		if _, err := s.SaveSuite(ctx, Window, strings.TrimSuffix(f.Name(), ".yaml"), string(text), Operator); err != nil {
			return fmt.Errorf("keep suite %s: %w", f.Name(), err)
		}
	}
	return nil
}

// Ahead is the document of the draft: pilots may see inspections too.
func Ahead() string {
	d := strings.Replace(Document, "version: 1.0.0", "version: 1.1.0", 1)
	return strings.Replace(d, "      pilots:\n        read: {fields: [id, name, class, on_duty]}", "      inspections:\n        read: "+
		"{fields: [id, port_call_id, held_at, passed]}\n      pilots:\n        read: {fields: [id, name, class, on_duty]}", 1)
}

// WriteEnv writes demo.env: what the command line, programs, and a second service over the same records need.
func WriteEnv(home string, values [][2]string) (string, error) {
	var b strings.Builder
	for _, v := range values {
		fmt.Fprintf(&b, "%s='%s'\n", v[0], strings.ReplaceAll(v[1], "'", `'\''`))
	}
	path := filepath.Join(home, "demo.env")
	return path, errors.Join(os.WriteFile(path, []byte(b.String()), 0o600), os.Chmod(path, 0o600))
}
