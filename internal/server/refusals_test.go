package server_test

import (
	"context"
	"encoding/json"
	"strings"
	"testing"

	"github.com/jackc/pgx/v5"

	"eagerwindow/internal/harbourtest"
)

// What the database refuses is reported with the fields that it is about, and what its owner's triggers say in their own words.
func TestDatabaseRefusals(t *testing.T) {
	t.Parallel()
	r := start(t)
	dsn := harbourtest.Database(t, false)
	ctx := context.Background()
	conn, err := pgx.Connect(ctx, dsn)
	if err != nil {
		t.Fatal(err)
	}
	defer conn.Close(ctx)
	if _, err := conn.Exec(ctx, `create table berth (code text primary key);
		create table stay (id int primary key, berth text references berth, ship text, during int4range, opens int, closes int, secret int,
			unique (berth, ship), constraint "no overlap" exclude using gist (during with &&), constraint hours check (opens < closes),
			constraint hidden check (secret < opens));
		create function mind() returns trigger language plpgsql as $$ begin
			case new.ship
				when 'plain' then raise exception 'No room for %.', new.ship using hint = 'Ask the harbour master.';
				when 'column' then raise exception 'Ships have names.' using column = 'ship';
				when 'table' then raise exception 'Ships have names.' using column = 'ship', table = 'stay', schema = 'public';
				when 'unique' then raise unique_violation using message = 'That ship is here.';
				when 'check' then raise check_violation using message = 'Too long a ship.', column = 'secret';
				when 'denied' then raise insufficient_privilege using message = 'Not on a Sunday.';
				when 'own' then raise exception 'Own words.' using errcode = 'HARB1';
				when 'none' then raise no_data_found using message = 'No such ship.';
				when 'again' then raise serialization_failure using message = 'The tide turned.';
				when 'number' then new.opens := 1 / (new.opens - new.opens);
				when 'assert' then assert false, 'what nobody is to know';
				else null;
			end case; return new; end $$;
		create trigger mind before insert or update on stay for each row execute function mind();
		insert into berth values ('N1'); insert into stay values (1, 'N1', 'Wren', '[1,5)', 6, 18, 0)`); err != nil {
		t.Fatal(err)
	}
	document := "window: stays\nsource: " + dsn +
		"\nresources: {berths: {from: berth}, stays: {from: stay, fields: {secret: {expose: false}}}}"
	if _, err := r.Operator.PushDraft(ctx, "stays", document); err != nil {
		t.Fatal(err)
	}
	for _, s := range []struct {
		method, path, body   string
		status               int
		code, target, reason string
	}{
		{"POST", "/stays", `{"id":2,"berth":"N1","ship":"Wren"}`, 409, "row.conflict", "berth,ship", "another row has the same value"},
		{"POST", "/stays", `{"id":1}`, 409, "row.conflict", "id", "another row has the same value"},
		{"POST", "/stays", `{"id":2,"during":{"lower":4,"upper":6,"bounds":"[)"}}`, 409, "row.conflict", "during", "overlaps with another one"},
		{"POST", "/stays", `{"id":2,"berth":"N2"}`, 409, "row.reference", "berth", "refers to one that does not exist"},
		{"POST", "/stays", `{"id":2,"opens":9,"closes":8}`, 422, "row.check", "opens,closes", "break a rule of the table"},
		{"PATCH", "/stays/1", `{"opens":-1}`, 422, "row.check", "", "break a rule of the table"}, // a field behind it is not shown
		{"DELETE", "/berths/N1", "", 409, "row.referenced", "", "other rows still refer to this one"},
		{"POST", "/stays", `{"id":2,"ship":"plain"}`, 422, "row.refused", "", "No room for plain.; Ask the harbour master."},
		{"PATCH", "/stays/1", `{"ship":"plain"}`, 422, "row.refused", "", "No room for plain."},
		{"PATCH", "/stays/$filter(id eq 1)/$each", `{"ship":"plain"}`, 422, "row.refused", "", "No room for plain."},
		{"PATCH", "/stays", `{"@context":"#$delta","value":[{"id":3},{"id":1,"ship":"column"}]}`, 422, "row.refused", "ship",
			"ship: Ships have names."},
		{"PUT", "/stays/1", `{"ship":"column"}`, 422, "row.refused", "ship", "ship: Ships have names."},
		{"POST", "/stays", `{"id":2,"ship":"table"}`, 422, "row.refused", "ship", "ship: Ships have names."},
		{"POST", "/stays", `{"id":2,"ship":"unique"}`, 409, "row.refused", "", "That ship is here."},
		{"POST", "/stays", `{"id":2,"ship":"check"}`, 422, "row.refused", "", "Too long a ship."},
		{"POST", "/stays", `{"id":2,"ship":"denied"}`, 403, "row.refused", "", "Not on a Sunday."},
		{"POST", "/stays", `{"id":2,"ship":"own"}`, 422, "row.refused", "", "Own words."},
		{"POST", "/stays", `{"id":2,"ship":"none"}`, 422, "row.refused", "", "No such ship."},
		{"POST", "/stays", `{"id":2,"ship":"again"}`, 409, "row.refused", "", "The tide turned."},
		{"POST", "/stays", `{"id":2,"ship":"number","opens":1}`, 400, "value.division", "", "divided by zero"},
		{"POST", "/berths", `{"code":"N3","stays":[{"id":2,"ship":"own"}]}`, 422, "row.refused", "stays/0", "stays/0: Own words."},
		// a mistake of its owner's, which the log tells
		{"POST", "/stays", `{"id":2,"ship":"assert"}`, 500, "internal", "", "internal error; its number is"},
	} {
		a := r.Send(t, r.Operator.Token, s.method, "/draft/stays"+s.path, strings.NewReader(s.body))
		var body struct {
			Error struct{ Code, Target, Message string }
		}
		if err := json.Unmarshal([]byte(a.Text), &body); err != nil || a.StatusCode != s.status || body.Error.Code != s.code ||
			body.Error.Target != s.target || !strings.Contains(body.Error.Message, s.reason) {
			t.Errorf("%s %s %s: %s %s\nwant %d %s at %q: %s", s.method, s.path, s.body, a.Status, a.Text, s.status, s.code, s.target, s.reason)
		}
	}
	if got := column(t, dsn, "select count(*) || ' ' || min(ship) || ' ' || (select count(*) from berth) from stay")[0]; got != "1 Wren 1" {
		t.Errorf("afterwards there is %s", got)
	}
}

// A constraint that is checked at the end of the transaction is reported as any other, wherever the transaction ends.
func TestDeferredConstraints(t *testing.T) {
	t.Parallel()
	r := start(t)
	dsn := harbourtest.Database(t, false)
	for _, sql := range strings.Split(`create table crane (id int primary key, name text, pair_id int references crane deferrable initially
			deferred, constraint "one name" unique (name) deferrable initially deferred);
		insert into crane values (1, 'A', null)`, ";") {
		column(t, dsn, sql)
	}
	if _, err := r.Operator.PushDraft(context.Background(), "cranes", "window: cranes\nsource: "+dsn+
		"\nresources: {cranes: {from: crane}}"); err != nil {
		t.Fatal(err)
	}
	for _, s := range []struct {
		method, path, body string
		key                string
		status             int
		want               string
		rows               string
	}{
		{"POST", "/cranes", `{"id":2,"name":"B","pair_id":9}`, "", 409, "pair_id: the row refers to one that does not exist", "1"},
		{"POST", "/cranes", `{"id":2,"name":"A"}`, "", 409, "name: another row has the same value", "1"},
		{"POST", "/cranes", `{"id":2,"name":"B","pair_id":9}`, "k1", 409, "refers to one that does not exist", "1"},
		{"POST", "/cranes", `{"id":2,"name":"B","pair":{"id":3,"name":"B"}}`, "", 409, "another row has the same value", "1"},
		{"PATCH", "/cranes", `{"@context":"#$delta","value":[{"id":2,"name":"B","pair_id":9}]}`, "", 409, "refers to one that does not exist",
			"1"},
		{"PATCH", "/cranes/$filter(id eq 1)/$each", `{"pair_id":9}`, "", 409, "refers to one that does not exist", "1"},
		{"DELETE", "/cranes/7", "", "", 404, "no such row", "1"},
		{"POST", "/$batch", `{"requests":[{"id":"1","atomicityGroup":"g","method":"POST","url":"cranes","body":{"id":2,"name":"B",` +
			`"pair_id":9}},{"id":"2","atomicityGroup":"g","method":"POST","url":"cranes","body":{"id":3,"name":"C"}}]}`, "", 200,
			"refers to one that does not exist", "1"},
		// in a ring
		{"POST", "/$batch", `{"requests":[{"id":"1","atomicityGroup":"g","method":"POST","url":"cranes","body":{"id":2,"name":"B",` +
			`"pair_id":3}},{"id":"2","atomicityGroup":"g","method":"POST","url":"cranes","body":{"id":3,"name":"C","pair_id":2}}]}`, "", 200,
			`"status":201`, "3"},
		{"PATCH", "/cranes", `{"@context":"#$delta","value":[{"id":2,"name":"C"},{"id":3,"name":"B"}]}`, "", 204, "", "3"}, // names change places
		{"DELETE", "/cranes/2", "", "", 409, "other rows still refer to this one", "3"},
		{"DELETE", "/cranes/$filter(id gt 1)/$each", "", "", 204, "", "1"},
	} {
		var headers []string
		if s.key != "" {
			headers = []string{"Idempotency-Key", s.key}
		}
		a := write(t, r, r.Operator.Token, s.method, "/draft/cranes"+s.path, s.body, headers...)
		if rows := column(t, dsn, "select count(*) from crane")[0]; a.StatusCode != s.status || !strings.Contains(a.Text, s.want) ||
			rows != s.rows {
			t.Errorf("%s %s %s: %s %s, %s rows\nwant %d %s, %s rows", s.method, s.path, s.body, a.Status, a.Text, rows, s.status, s.want, s.rows)
		}
	}
}
