package cli_test

import (
	"bytes"
	"context"
	"fmt"
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/jackc/pgx/v5"

	"eagerwindow/demo"
	"eagerwindow/internal/fakeissuer"
	"eagerwindow/internal/harbourtest"
)

// example is a command of a document and what it should print; … in it stands for anything.
type example struct{ command, want string }

// examples are the commands of a document's console blocks.
func examples(t *testing.T, file string) []example {
	t.Helper()
	text, err := os.ReadFile(file)
	if err != nil {
		t.Fatal(err)
	}
	var list []example
	for _, block := range regexp.MustCompile("(?s)```console\n(.*?)```").FindAllStringSubmatch(string(text), -1) {
		typing := false // a text that goes into a command, up to END
		for _, line := range strings.SplitAfter(block[1], "\n") {
			if typing {
				list[len(list)-1].command += line
				typing = line != "END\n"
				continue
			}
			typing = strings.Contains(line, "<<'END'")
			if command, ok := strings.CutPrefix(line, "$ "); ok {
				list = append(list, example{command: command})
			} else if len(list) > 0 {
				list[len(list)-1].want += line
			}
		}
	}
	return list
}

// pattern matches what an example should print.
func pattern(want string) *regexp.Regexp {
	parts := strings.Split(strings.TrimSpace(want), "…")
	for i, p := range parts {
		parts[i] = regexp.QuoteMeta(p)
	}
	return regexp.MustCompile(`(?s)^\s*` + strings.Join(parts, ".*") + `\s*$`)
}

// Every example of the documents does what it says: those of one document in one shell, one after the other.
func TestDocuments(t *testing.T) {
	for file, least := range map[string]int{"README.md": 12, "docs/querying.md": 40, "docs/windows.md": 8, "docs/writing.md": 14,
		"docs/callers.md": 15, "docs/errors.md": 2, "docs/deploying.md": 18, "docs/describing.md": 7, "docs/testing.md": 9} {
		t.Run(file, func(t *testing.T) {
			list := examples(t, "../../"+file)
			if len(list) < least {
				t.Fatalf("%s has %d examples only", file, len(list))
			}
			idp, err := fakeissuer.New(demo.Issuer)
			if err != nil {
				t.Fatal(err)
			}
			issuer := httptest.NewServer(idp)
			defer issuer.Close()
			t.Setenv("JWKS_URL", issuer.URL+"/jwks.json")
			t.Setenv("EAGER_ISSUER", issuer.URL)
			harbour, err := filepath.Abs("../../demo")
			if err != nil {
				t.Fatal(err)
			}
			r := service(t)
			if err := os.Symlink(harbour, "demo"); err != nil {
				t.Fatal(err)
			}
			runExamples(t, r, list, "DSN="+library(t), "HARBOUR_DSN="+r.Harbour)
		})
	}
}

// library is a database of somebody's own.
func library(t *testing.T) string {
	t.Helper()
	dsn := harbourtest.Database(t, false)
	conn, err := pgx.Connect(context.Background(), dsn)
	if err != nil {
		t.Fatal(err)
	}
	defer conn.Close(context.Background())
	if _, err := conn.Exec(context.Background(), `create table shelf (id int primary key, label text); `+
		`create table book (id int primary key, title text not null, shelf_id int references shelf); insert into shelf values (1, 'A'); `+
		`insert into book values (1, 'Tides', 1)`); err != nil {
		t.Fatal(err)
	}
	return dsn
}

func runExamples(t *testing.T, r *harbourtest.Running, list []example, env ...string) {
	t.Helper()
	const mark = "\x01"
	var script strings.Builder
	for _, e := range list {
		fmt.Fprintf(&script, "{ %s\n} 2>&1\nprintf '%s'\n", e.command, mark)
	}
	host := strings.TrimPrefix(r.URL, "http://")
	cmd := exec.Command("bash", "-c", strings.ReplaceAll(script.String(), "localhost:8080", host))
	cmd.Env = append(append(os.Environ(), path(t)), env...)
	out, err := cmd.CombinedOutput()
	if err != nil {
		t.Fatalf("%v\n%s", err, out)
	}
	printed := bytes.Split(out, []byte(mark))
	for i, e := range list {
		got := strings.NewReplacer(host, "127.0.0.1:8080", "\r\n", "\n").Replace(string(printed[i]))
		if !pattern(e.want).MatchString(got) {
			t.Errorf("$ %sgot\n%s\nwant\n%s", e.command, got, e.want)
		}
	}
}

// path is a PATH on which eager is this program.
func path(t *testing.T) string {
	t.Helper()
	bin := t.TempDir()
	if err := os.WriteFile(filepath.Join(bin, "eager"), []byte("#!/bin/sh\nCLI_TEST_RUN=1 exec '"+os.Args[0]+"' \"$@\"\n"),
		0o700); err != nil {
		t.Fatal(err)
	}
	return "PATH=" + bin + ":" + os.Getenv("PATH")
}

// Every command's help has examples, and they work on the demo. Those that run a service have tests of their own.
func TestHelpExamples(t *testing.T) {
	repository, err := filepath.Abs("../..")
	if err != nil {
		t.Fatal(err)
	}
	r := service(t)
	if err := os.Symlink(filepath.Join(repository, "demo"), "demo"); err != nil {
		t.Fatal(err)
	}
	env := append(os.Environ(), path(t), "EAGER_DEMO_DSN="+r.Harbour)
	for _, command := range []string{"version", "login", "look", "open", "ask", "access show", "access why", "describe", "publish",
		"client add", "client list", "client set", "client remove", "account add", "account list", "account set", "account remove", "keys rotate",
		"draft push", "draft schema", "check new", "check list", "check keep", "check remove", "check history", "check again", "check record",
		"check compare", "token"} {
		help, _ := run("", append(strings.Fields(command), "--help")...)
		long, _, _ := strings.Cut(help, "Usage:\n")
		for line := range strings.Lines(long) {
			if len(line) > 140 || strings.HasPrefix(line, "\t") {
				t.Errorf("eager %s --help has a line that is not laid out: %q", command, line)
			}
		}
		_, after, _ := strings.Cut(help, "Examples:\n")
		section, _, _ := strings.Cut(after, "\n\n")
		lines := strings.Split(strings.TrimSpace(section), "\n")
		if section == "" {
			t.Errorf("eager %s --help has no examples", command)
		}
		for _, line := range lines {
			cmd := exec.Command("bash", "-c", line)
			cmd.Env = env
			if out, err := cmd.CombinedOutput(); err != nil {
				t.Errorf("%s: %v\n%s", line, err, out)
			}
		}
	}
}
