package server_test

import (
	"context"
	"encoding/binary"
	"fmt"
	"io"
	"net"
	"net/url"
	"regexp"
	"strings"
	"sync/atomic"
	"testing"
)

// wire is a way to a database that counts the statements that go along it, and how often somebody waits for their answers: the messages
// Execute and Query of the protocol, Sync and Query (PostgreSQL, 55.7).
type wire struct {
	dsn               string
	statements, trips atomic.Int64
}

// listen opens a way to the database of a DSN.
func listen(t *testing.T, dsn string) *wire {
	t.Helper()
	u, err := url.Parse(dsn)
	if err != nil {
		t.Fatal(err)
	}
	to := u.Host
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = l.Close() })
	u.Host = l.Addr().String()
	w := &wire{dsn: u.String()}
	go func() {
		for {
			caller, err := l.Accept()
			if err != nil {
				return
			}
			server, err := net.Dial("tcp", to)
			if err != nil {
				_ = caller.Close()
				continue
			}
			go func() { _, _ = io.Copy(caller, server); _ = caller.Close() }()
			go func() { w.forward(caller, server); _ = server.Close() }()
		}
	}()
	return w
}

// aside is what is sent besides statements: transactions, and what finds out whether an idle connection still works.
var aside = regexp.MustCompile("^(begin|commit|-- ping|listen)")

// forward passes on what a client sends, message by message. The first ones, until the client says who it is, have no kind.
func (w *wire) forward(from io.Reader, to io.Writer) {
	head := make([]byte, 5)
	watching, skip := map[string]bool{}, false // the service's look at the catalog, which is of no request
	executed := false
	for begun := false; ; {
		kind := head[:1]
		if !begun {
			kind = nil
		} else if _, err := io.ReadFull(from, kind); err != nil {
			return
		}
		if _, err := io.ReadFull(from, head[1:]); err != nil {
			return
		}
		body := make([]byte, binary.BigEndian.Uint32(head[1:])-4)
		if _, err := io.ReadFull(from, body); err != nil {
			return
		}
		name, rest, _ := strings.Cut(string(body), "\x00")
		switch {
		case begun && kind[0] == 'P':
			watching[name] = strings.Contains(rest, "hashtextextended") || strings.Contains(rest, "pg_event_trigger") ||
				aside.MatchString(rest)
		case begun && kind[0] == 'B':
			statement, _, _ := strings.Cut(rest, "\x00")
			skip = watching[statement]
		}
		if !begun {
			begun = binary.BigEndian.Uint32(body) == 3<<16 // else it asks for encryption, or to break off
		} else if kind[0] == 'E' && !skip || kind[0] == 'Q' && !aside.Match(body) {
			w.statements.Add(1)
			executed = true
		}
		if len(kind) > 0 && (kind[0] == 'S' && executed || kind[0] == 'Q' && !strings.HasPrefix(string(body), "-- ping")) {
			w.trips.Add(1)
			executed = false
		}
		if _, err := to.Write(append(append(append([]byte{}, kind...), head[1:]...), body...)); err != nil {
			return
		}
	}
}

// A write takes as many statements as its body names relations, however many rows it has: at most three for each, and three more.
func TestStatementsOfWrites(t *testing.T) {
	t.Parallel()
	r := start(t)
	w := listen(t, r.Harbour)
	document := "window: counted\nsource: " + w.dsn + `
resources:
  port_calls: {from: harbour.port_call}
  vessels: {from: harbour.vessel}
  tugs: {from: harbour.tug}
  berths: {from: harbour.berth}
  cargo_items: {from: harbour.cargo_item}
  pilots: {from: harbour.pilot, relations: {trainees: {to: pilots, on: {id: mentor_id}}}}
  dues: {from: harbour.due}
roles: {all: {may: {"*": [read, create, update, delete]}}}
`
	if _, err := r.Operator.PushDraft(context.Background(), "counted", document); err != nil {
		t.Fatal(err)
	}
	column(t, r.Harbour, "insert into harbour.tug (name, bollard_pull_t) select 'Tug ' || n, 30 from generate_series(1, 1000) n")
	column(t, r.Harbour, "delete from harbour.cargo_item where port_call_id = 17")
	column(t, r.Harbour, "insert into harbour.cargo_item (id, port_call_id, description, hs_code, "+
		"tonnes) overriding system value select 100000 + n, 17, 'Salt', '250100', 1 from generate_series(1, 1000) n")
	tugs := column(t, r.Harbour, "select id::text from harbour.tug where name like 'Tug %' order by id")
	rows := func(n int, row func(i int) string) string {
		list := make([]string, n)
		for i := range list {
			list[i] = row(i)
		}
		return "[" + strings.Join(list, ",") + "]"
	}
	const call = `"vessel_id":3,"eta":"2026-07-09T12:00:00Z","draught_m":5.5`
	named := func(i int) string { return fmt.Sprintf(`{"@id":"tugs/%s"}`, tugs[i]) }
	cargo := func(i int) string { return fmt.Sprintf(`{"description":"Oats %d","hs_code":"100400","tonnes":1}`, i) }
	kept := func(i int) string { return fmt.Sprintf(`{"@id":"cargo_items/%d","tonnes":2}`, 100001+i) }
	fresh := 0
	newTug := func(i int) string { fresh++; return fmt.Sprintf(`{"name":"New %d","bollard_pull_t":5}`, fresh) }
	write(t, r, r.Operator.Token, "PATCH", "/draft/counted/port_calls/17", `{"remarks":"a connection is there"}`)
	for _, tt := range []struct {
		name, method, path string
		body               func(n int) string
		relations          int // that the body names
		want               int // statements
	}{
		{"one row", "POST", "/port_calls", func(int) string { return "{" + call + "}" }, 0, 1},
		{"a change of one row", "PATCH", "/port_calls/17", func(int) string { return `{"remarks":"x"}` }, 0, 1},
		{"a replacement", "PUT", "/berths/N05", func(int) string { return `{"quay":"North","length_m":200,"max_draught_m":9}` }, 0, 1},
		{"a change of one field", "PUT", "/port_calls/17/remarks", func(int) string { return `{"value":"y"}` }, 0, 1},
		{"a row along a relation", "POST", "/vessels/3/port_calls", func(int) string { return `{"eta":"2026-07-09T12:00:00Z","draught_m":5.5}` },
			1, 2},
		{"a change along a relation", "PATCH", "/port_calls/17/vessel", func(int) string { return `{"flag":"NO"}` }, 1, 2},
		{"a link by a junction", "POST", "/port_calls/17/tugs/$ref", func(int) string { return named(0) }, 1, 1},
		{"a link by a field", "PUT", "/port_calls/17/berth/$ref", func(int) string { return `{"@id":"berths/N05"}` }, 1, 2},
		{"a link removed", "DELETE", "/port_calls/17/berth/$ref", func(int) string { return "" }, 1, 1},
		{"rows changed by a filter", "PATCH", "/cargo_items/$filter(id gt 100000)/$each", func(int) string { return `{"tonnes":3}` }, 0, 1},
		{"links in a new row", "POST", "/port_calls", func(n int) string { return "{" + call + `,"tugs":` + rows(n, named) + "}" }, 1, 3},
		{"new rows in a new row", "POST", "/port_calls", func(n int) string { return "{" + call + `,"cargo_items":` + rows(n, cargo) + "}" }, 1,
			3},
		{"new rows and links in a new row", "POST", "/port_calls", func(n int) string {
			return "{" + call + `,"cargo_items":` + rows(n, cargo) + `,"tugs":` + rows(n, newTug) +
				`,"berth":{"@id":"berths/N05"},"due":{"amount":5}}`
		}, 4, 7},
		{"rows in rows in a new row", "POST", "/vessels", func(n int) string {
			fresh++
			return fmt.Sprintf(`{"name":"V","imo_number":"%d","flag":"NO","kind":"cargo","gross_tonnage":1,"port_calls":`, 9000000+fresh) +
				rows(n, func(i int) string {
					return `{"eta":"2026-07-09T12:00:00Z","draught_m":5.5,"cargo_items":[` + cargo(i) + `],"tugs":[` + named(i) + `]}`
				}) + "}"
		}, 3, 5},
		{"a set of links", "PATCH", "/port_calls/18", func(n int) string { return `{"tugs":` + rows(n, named) + "}" }, 1, 3},
		{"no links", "PATCH", "/port_calls/18", func(int) string { return `{"tugs":[]}` }, 1, 3},
		{"a set of what can't be released", "PATCH", "/port_calls/17", func(n int) string {
			return `{"cargo_items":` + rows(1000, kept) + "}"
		}, 1, 4},
		{"a delta of a relation", "PATCH", "/port_calls/17", func(n int) string {
			return `{"cargo_items@delta":` + strings.TrimSuffix(rows(n, kept), "]") + "," + rows(n, cargo)[1:] + "}"
		}, 1, 4},
		{"what a set leaves out", "PATCH", "/berths/N05", func(n int) string { return `{"port_calls":[{"@id":"port_calls/17"}]}` }, 1, 4},
		{"links with a change of what they name", "PATCH", "/port_calls/19", func(n int) string {
			return `{"tugs":` + strings.TrimSuffix(rows(n,
				func(i int) string { return fmt.Sprintf(`{"@id":"tugs/%s","bollard_pull_t":%d}`, tugs[i], n) }), "]") + "," + rows(n, newTug)[1:] + "}"
		}, 1, 5},
		{"a delta of a collection", "PATCH", "/tugs", func(n int) string {
			return `{"value":` + strings.TrimSuffix(rows(n, newTug), "]") + "," +
				rows(n, func(i int) string { return fmt.Sprintf(`{"id":%s,"bollard_pull_t":7}`, tugs[i]) })[1:] + "}"
		}, 0, 2},
	} {
		for _, n := range []int{1, 50, 1000} {
			before, trips := w.statements.Load(), w.trips.Load()
			a := write(t, r, r.Operator.Token, tt.method, "/draft/counted"+tt.path, tt.body(n), "Act-As", "all")
			if a.StatusCode >= 300 {
				t.Errorf("%s, %d rows: %s %.300s", tt.name, n, a.Status, a.Text)
				break
			}
			if got := int(w.statements.Load() - before); got != tt.want || got > 3*tt.relations+3 {
				t.Errorf("%s, %d rows: %d statements, want %d, at most 3 for each of %d relations and 3 more", tt.name, n, got, tt.want, tt.relations)
			}
			// A transaction begins along with its first statement, and ends along with the one that reads back what was written.
			most := tt.want
			if most == 2 {
				most++ // nothing is read back: what the last statement has done decides whether it is committed
			}
			if got := int(w.trips.Load() - trips); got > most {
				t.Errorf("%s, %d rows: %d trips to the database, want %d", tt.name, n, got, most)
			}
		}
	}
}
