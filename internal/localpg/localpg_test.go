package localpg_test

import (
	"context"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"

	"eagerwindow/internal/localpg"
)

// folder is a folder of the test's own that every user may enter.
func folder(t *testing.T) string {
	t.Helper()
	dir, err := os.MkdirTemp("", "localpg-")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = os.RemoveAll(dir) })
	if err := os.Chmod(dir, 0o755); err != nil {
		t.Fatal(err)
	}
	return filepath.Join(dir, "pg")
}

// child is this test binary, told to start a server in a folder and wait to be killed.
const child = "LOCALPG_TEST_CHILD"

func TestMain(m *testing.M) {
	if dir := os.Getenv(child); dir != "" {
		s, err := localpg.Start(context.Background(), localpg.Options{Dir: dir, Throwaway: true})
		if err != nil {
			println(err.Error())
			os.Exit(1)
		}
		println(s.DSN("postgres"))
		select {}
	}
	os.Exit(m.Run())
}

func TestKeepsItsData(t *testing.T) {
	t.Parallel()
	ctx, dir := context.Background(), folder(t)
	start := func() *localpg.Server {
		s, err := localpg.Start(ctx, localpg.Options{Dir: dir, Throwaway: true})
		if err != nil {
			t.Fatal(err)
		}
		return s
	}
	s := start()
	for _, want := range []bool{true, false} {
		if made, err := s.CreateDatabase(ctx, `odd "name"`, ""); err != nil || made != want {
			t.Fatalf("made %v, %v; want %v", made, err, want)
		}
	}
	if err := s.Stop(); err != nil {
		t.Fatal(err)
	}
	if _, err := pgx.Connect(ctx, s.DSN("postgres")); err == nil {
		t.Error("the server answers after it was stopped")
	}
	s = start()
	defer s.Remove()
	if made, err := s.CreateDatabase(ctx, `odd "name"`, ""); err != nil || made {
		t.Errorf("the database is gone after a restart: made %v, %v", made, err)
	}
	wrong, err := url.Parse(s.DSN("postgres"))
	if err != nil {
		t.Fatal(err)
	}
	wrong.User = url.UserPassword("eager", "guess")
	if _, err := pgx.Connect(ctx, wrong.String()); err == nil {
		t.Error("the server lets in whoever asks")
	}
}

// A server whose parent was killed ends too, and the folder can be used again at once.
func TestParentKilled(t *testing.T) {
	t.Parallel()
	ctx, dir := context.Background(), folder(t)
	cmd := exec.Command(os.Args[0])
	cmd.Env = append(os.Environ(), child+"="+dir)
	said, err := cmd.StderrPipe()
	if err != nil {
		t.Fatal(err)
	}
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	line := make([]byte, 4096)
	n, _ := said.Read(line)
	dsn := strings.TrimSpace(string(line[:n]))
	conn, err := pgx.Connect(ctx, dsn)
	if err != nil {
		t.Fatalf("%s: %v", dsn, err)
	}
	defer conn.Close(ctx)
	if err := cmd.Process.Kill(); err != nil {
		t.Fatal(err)
	}
	_ = cmd.Wait()
	s, err := localpg.Start(ctx, localpg.Options{Dir: dir, Throwaway: true})
	if err != nil {
		t.Fatalf("start where a killed parent left a server: %v", err)
	}
	defer s.Remove()
	wait, cancel := context.WithTimeout(ctx, 10*time.Second)
	defer cancel()
	if err := conn.Ping(wait); err == nil {
		t.Error("the old server still answers")
	}
}
