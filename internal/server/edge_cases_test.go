package server_test

import (
	"fmt"
	"strings"
	"testing"
)

// Writes where less is granted than their parts need, relations over keys that are not the row's own, and bodies that say too little or
// too much: each is refused by the part that is wrong, or does all of it.
func TestCornersOfWrites(t *testing.T) {
	t.Parallel()
	r := start(t)
	dsn := database(t, `create table port (code text primary key, zone int unique, name text);
		create table ship (id int generated always as identity primary key, name text not null unique, zone int references port(zone),
			home_code text references port, flag text default 'XX', docked timestamp);
		create table visit (ship_id int references ship, port_code text references port, day date, note text, primary key (ship_id, port_code,
			day));
		create table hand (id int generated always as identity primary key, name text not null, ship_id int references ship);
		create domain label as text default 'made' not null;
		create table tin (id int generated always as identity primary key, label label, n int not null);
		insert into port values ('N', 1, 'North'), ('S', 2, 'South'), ('E', null, 'East');
		insert into ship (name, zone, home_code) values ('Wren', 1, 'N'), ('Tern', null, null)`)
	document := "window: corner\nsource: " + dsn + `
resources:
  ports: {from: port}
  ships: {from: ship}
  visits: {from: visit}
  hands: {from: hand}
  tins: {from: tin}
  piers: {from: port, fields: {zone: {expose: false}}}
  boats: {from: ship, fields: {zone: {expose: false}, home_code: {expose: false}}, relations: {pier: {to: piers, on: {zone: zone}}}}
roles:
  all: {may: {"*": [read, create, update, delete]}}
  maker: {may: {ships: create, hands: create}}
  changer: {may: {ships: [read, update], hands: [read, update], ports: [read, update], visits: [read, update]}}
  reader: {may: {ships: [read, update], hands: read, ports: read}}
  painter: {may: {ships: {read: {}, create: {set: {home_code: N}}, update: {fields: [name]}}, hands: {read: {}, create: {fields: [name]},
        update: {fields: [name]}}, ports: read}}
  north: {may: {ships: {read: {}, create: {}, update: {rows: zone eq 1}}, ports: read}}
  namer: {may: {ports: {read: {}, update: {}, create: {fields: [name, zone]}}}}
`
	if _, err := r.Operator.PushDraft(t.Context(), "corner", document); err != nil {
		t.Fatal(err)
	}
	for _, s := range []struct {
		role, method, path, body string
		status                   int
		want                     string
	}{
		// A relation by a unique field that is not the key.
		{"all", "PATCH", "/ships/2?select=zone", `{"zone_port":{"code":"S","name":"Far South"}}`, 200,
			`"zone":2,"zone_port":{"code":"S","zone":2,"name":"Far South"}`},
		{"all", "PUT", "/ships/2/zone_port/$ref", `{"@id":"ports/E"}`, 204, ""}, // it has no zone, so the ship has none
		{"all", "GET", "/ships/2?select=zone", "", 200, `"zone":null`},
		{"all", "POST", "/ports", `{"code":"W","zone":3,"ships_by_zone":[{"name":"Dove","hands":[{"name":"Ann"}]},{"@id":"ships/2"}]}`, 201,
			`"ships_by_zone":[{"id":2,"name":"Tern","zone":3`},
		{"all", "POST", "/ports/W/ships_by_zone?select=name,zone", `{"name":"Gull"}`, 201, `"name":"Gull","zone":3`},
		{"all", "POST", "/ports/E/ships_by_zone?select=name,zone", `{"name":"Auk"}`, 201, `"name":"Auk","zone":null`},
		{"all", "POST", "/ports/W/ships_by_zone", `{"name":"Crow","zone":1}`, 400, "zone: the path says 3, the body 1; leave it out"},
		{"all", "POST", "/ports/W/ships_by_zone?select=zone", `{"name":"Crow","zone":3}`, 201, `"zone":3`},
		{"all", "POST", "/ports/W/ships_by_zone", `[1]`, 400, "this is an array"},
		{"all", "POST", "/ports/W/ships_by_zone", `{"name":`, 400, "is not JSON"},
		{"all", "POST", "/ports/X/ships_by_zone", `{"name":"Rook"}`, 404, "no such row"},
		{"all", "DELETE", "/ports/W/ships_by_zone/2/$ref", "", 204, ""},
		{"all", "DELETE", "/ports/W/ships_by_zone/2/$ref", "", 404, "no such row"},
		{"all", "DELETE", "/ports/W/ships_by_zone/$ref?$id=ships/x", "", 400, "is no whole number"},
		{"all", "DELETE", "/ports/W/ships_by_zone/$ref", "", 400, "say which row of ships_by_zone"},

		// Fields behind a relation that are not shown.
		{"all", "GET", "/boats/1?select=name&expand=pier(select=code)", "", 200, `{"code":"N"}`},
		{"all", "PUT", "/boats/1/pier/$ref", `{"@id":"piers/S"}`, 501, "the fields behind pier are not shown here"},
		{"all", "DELETE", "/boats/1/pier/$ref", "", 501, "the fields behind pier are not shown here"},
		{"all", "PATCH", "/boats/1", `{"pier":{"@id":"piers/S"}}`, 400, "pier: the fields behind this relation are not shown here"},
		{"all", "POST", "/piers/N/ships", `{"name":"x"}`, 404, `piers has no relation or field "ships"`},

		// Who may not read may still write, and is not shown what was stored.
		{"maker", "POST", "/ships", `{"name":"Loon","hands":[{"name":"Bo"}]}`, 204, ""},
		{"maker", "POST", "/ships", `{"name":"Loon"}`, 409, "another row has the same value"},
		{"maker", "POST", "/ships?select=id", `{"name":"Lark"}`, 403, `may not read ships`},
		{"maker", "PATCH", "/ships/1", `{"name":"x"}`, 403, `role "maker" may not update ships`},

		// Nested rows need what they would need alone.
		{"changer", "PATCH", "/ships/1", `{"hands":[{"name":"Cy"}]}`, 403, `hands/0: role "changer" may not create hands`},
		{"changer", "PATCH", "/ports/E", `{"visits":[{"ship_id":1,"day":"2026-07-01"}]}`, 403, `role "changer" may not create visits`},
		{"changer", "PATCH", "/ships/1", `{"home":{"code":"Q","name":"x"}}`, 403, `home: role "changer" may not create ports`},
		{"changer", "PATCH", "/ships/1", `{"visits@delta":[{"@removed":{"reason":"deleted"},"port_code":"N","day":"2026-07-01"}]}`, 404,
			"visits@delta/0: there is no such row"},
		{"reader", "PATCH", "/ships/1", `{"hands":[{"@id":"hands/1"}]}`, 403, `hands/0: role "reader" may not update hands`},
		{"reader", "PATCH", "/ships/1", `{"home":{"name":"x"}}`, 403, `home: role "reader" may not update ports`},
		{"reader", "PATCH", "/ships/1?select=home_code", `{"home":{"@id":"ports/S"}}`, 200, `"home_code":"S"`},
		{"reader", "PATCH", "/ships/1", `{"home":{"@id":"ports/none"}}`, 404, "home: there is no such row of ports"},
		{"reader", "PATCH", "/ships/1", `{"home":{"@id":"ships/2"}}`, 400,
			`home leads to rows of ports, and \"ships/2\" is none; write ports/…`},
		{"reader", "PATCH", "/ships/1", `{"home":{"@id":"nowhere/2"}}`, 404, `home: there is no resource \"nowhere\"`},
		{"painter", "POST", "/ships", `{"name":"Finch","home":{"@id":"ports/S"}}`, 400,
			"home: the service sets home_code for your role; leave the relation out"},
		{"painter", "POST", "/ships?select=name,home_code", `{"name":"Finch"}`, 201, `"home_code":"N"`},
		{"painter", "PATCH", "/ships/1", `{"home":{"@id":"ports/S"}}`, 403,
			"home: your role may not update home_code, which holds this relation; it may update name"},
		{"painter", "PATCH", "/ships/1", `{"hands":[{"name":"Di"}]}`, 403,
			"hands/0/ship_id: your role may not create this field, which ties the row to the one around it"},
		{"painter", "PATCH", "/ships/1", `{"hands@delta":[{"id":1,"name":"Ann"}]}`, 403,
			`role \"painter\" may not update ship_id of hands, which ties the row to the one around it`},
		{"north", "PATCH", "/ships/1", `{"zone_port":{"@id":"ports/S"}}`, 403,
			"that it keeps within its limits, and this one would not be; nothing was changed"},
		{"north", "PATCH", "/ships/2", `{"zone_port":{"@id":"ports/N"}}`, 403, "its rows for that are limited"},
		{"namer", "PUT", "/ports/New", `{"zone":9,"name":"New"}`, 404, "no such row"}, // the key is not the role's to give
		{"namer", "PATCH", "/ports", `{"value":[{"code":"New","name":"x"}]}`, 404, "value/0: there is no such row"},

		// What is misspelled is reported, not passed over.
		{"all", "PATCH", "/ships/1", `{"flag":"NO","hand@delta":[{"name":"Fay"}]}`, 400,
			`hand@delta: ships has no relation "hand"; did you mean "hands"?`},
		{"all", "PATCH", "/ships/1", `{"flag":"NO","visit@odata.bind":["visits/1"],"hand":[],"flag@type":"x"}`, 400, `the body has 2 mistakes`},
		{"all", "GET", "/ships/1?select=flag", "", 200, `"flag":"XX"`},

		// Rows by their key, which may be new.
		{"all", "PATCH", "/ships/1?select=id&expand=visits(select=port_code,note;orderby=port_code)",
			`{"visits":[{"port_code":"N","day":"2026-07-01"},{"port_code":"S","day":"2026-07-02","note":"brief"}]}`, 200,
			`"visits":[{"port_code":"N","note":null},{"port_code":"S","note":"brief"}]`},
		{"all", "PATCH", "/ships/1?select=id&expand=visits(select=port_code,note;orderby=port_code)",
			`{"visits@delta":[{"port_code":"N","day":"2026-07-01","note":"long"},{"port":{"code":"Z"},"day":"2026-07-03"}]}`, 200,
			`{"port_code":"N","note":"long"},{"port_code":"S","note":"brief"},{"port_code":"Z","note":null}`},
		{"all", "PATCH", "/ships/1", `{"visits":[]}`, 409,
			`visits: visits/1/N/2026-07-01 is left out, and can't be without the row it belongs to`},
		{"all", "PATCH", "/ships/2", `{"visits@delta":[{"@id":"visits/1/N/2026-07-01","note":"x"}]}`, 409,
			"visits@delta/0: ship_id is part of the key of visits/1/N/2026-07-01, so the row can't be taken from another one"},
		{"all", "PATCH", "/ships/2", `{"visits@delta":[{"ship_id":1,"port_code":"N","day":"2026-07-01","note":"x"}]}`, 409,
			"ship_id is part of the key of visits"},
		{"all", "PATCH", "/visits/1/N/2026-07-01", `{"ship":{"@id":"ships/2"}}`, 409,
			"ship: ship_id is part of the key of visits/1/N/2026-07-01"},
		{"all", "PATCH", "/visits/1/N/2026-07-01?select=note", `{"note":"same","ship":{"@id":"ships/1","flag":"SE"}}`, 200, `"note":"same"`},
		{"all", "PATCH", "/ships/1?select=id", `{"visits@delta":[{"@removed":{"reason":"deleted"},"@id":"visits/1/Z/2026-07-03"},` +
			`{"@removed":{"reason":"deleted"},"@id":"visits/1/S/2026-07-02"}]}`, 200, `"visits":[{"ship_id":1,"port_code":"N"`},
		// it is the other ship's
		{"all", "PATCH", "/ships/2", `{"visits@delta":[{"@removed":{"reason":"deleted"},"@id":"visits/1/N/2026-07-01"}]}`, 404,
			"visits@delta/0: there is no such row"},
		{"all", "PATCH", "/ships/1", `{"hands@delta":[{"id":99,"name":"x"}]}`, 404, "hands@delta/0: there is no such row of hands"},
		{"all", "PATCH", "/ships/1", `{"hands":[{"name":"Eve","ship_id":2}]}`, 400, "hands/0/ship_id: the row around it says 1; leave it out"},
		{"all", "PATCH", "/ships/1", `{"home":{"code":"N"},"home_code":"S"}`, 400, "home/home_code: the row around it says"},

		// Along relations to one.
		{"all", "PATCH", "/hands/1/ship?select=name,docked", `{"docked":"2026-07-01T10:00:00+02:00"}`, 200, `"docked":"2026-07-01T08:00:00Z"`},
		{"all", "PATCH", "/ships", `{"value":[{"id":1,"docked":"2026-07-02T10:00:00+02:00"},{"id":2,"docked":"-infinity"},{"id":3}]}`, 204, ""},
		{"all", "GET", "/ships?select=id,docked&filter=docked ne null&orderby=id", "", 200, `{"id":1,"docked":"2026-07-02T08:00:00Z"},` + "\n" +
			`{"id":2,"docked":"-infinity"}`},
		{"all", "PATCH", "/hands/1/ship/home", `{"code":"Y","name":"Yonder"}`, 201, `"code":"Y","zone":null,"name":"Yonder"`},
		{"all", "PATCH", "/hands/1/ship/home?select=name", `{"name":"Far"}`, 200, `"name":"Far"`},
		{"all", "PATCH", "/hands/9/ship/home", `{"name":"Far"}`, 404, "no such row"},
		{"all", "PATCH", "/ships/2/home", `{`, 400, "is not JSON"},
		{"all", "PATCH", "/ships/2/home", `{"name":"No key"}`, 400, "home/code: is required"},
		{"all", "DELETE", "/hands/1/ship/home", "", 409, "other rows still refer to this one"},
		{"all", "PUT", "/ships/2/name", `{"value":null}`, 400, "name: can't be null"},
		{"all", "PUT", "/ships/2/name", `{"value"`, 400, "is not JSON"},
		{"all", "PUT", "/ships/2/name", `"Tern"`, 400, `the body is no JSON object; send {\"value\": …}`},
		{"all", "POST", "/ships/2/$ref", `{"@id":"hands/1"}`, 400, "a link is written along a relation of a row"},
		{"all", "POST", "/ships/2/hands/$ref", `{"@id":5}`, 400, "@id is a string"},
		{"all", "POST", "/ships/2/hands/$ref", `[]`, 400, "no JSON object"},
		{"all", "POST", "/ships/2/hands/$ref", `{}`, 400, "the body names no row"},
		{"all", "POST", "/ships/2/hands/$ref", `{"@id":"hands"}`, 400, `hands leads to rows of hands, and \"hands\" is none`},
		{"all", "POST", "/ships/2/hands/$ref", `{"@odata.id":"http://port.example/api/corner/hands(1)"}`, 204, ""},

		// A domain has a default and takes no null: the database's to know, row by row.
		{"all", "PATCH", "/tins", `{"value":[{"n":1},{"n":2}]}`, 204, ""},
		{"all", "PATCH", "/tins", `{"value":[{"n":3,"label":"own"},{"n":4}]}`, 204, ""},
		{"all", "PATCH", "/tins", `{"value":[{"n":3,"label":"own"},{"n":null,"label":"x"}]}`, 400, "value/1/n: can't be null"},
		{"all", "GET", "/tins?select=label,n&orderby=n", "", 200, `{"label":"made","n":1},` + "\n" + `{"label":"made","n":2},` + "\n" +
			`{"label":"own","n":3},` + "\n" + `{"label":"made","n":4}` + "\n]"},
	} {
		a := write(t, r, r.Operator.Token, s.method, "/draft/corner"+s.path, s.body, "Act-As", s.role)
		want := strings.ReplaceAll(s.want, `"`, `\"`)
		if a.StatusCode != s.status || !strings.Contains(a.Text, s.want) && !strings.Contains(a.Text, want) {
			t.Errorf("as %s %s %s %s: %s %s\nwant %d %s", s.role, s.method, s.path, s.body, a.Status, a.Text, s.status, s.want)
		}
	}
	var names []string
	for i := range 150 {
		names = append(names, fmt.Sprintf(`"field_%d":1`, i))
	}
	a := write(t, r, r.Operator.Token, "POST", "/draft/corner/ships", "{"+strings.Join(names, ",")+"}")
	if n := strings.Count(a.Text, `"code":"field.unknown"`); a.StatusCode != 400 || n != 100 ||
		!strings.Contains(a.Text, "the body has 151 mistakes, of which these are the first 100") {
		t.Errorf("many mistakes: %s, %d told: %.300s", a.Status, n, a.Text)
	}
}

// A document that names a source that is not there is told so with its line, and the nearest name.
func TestUnknownSource(t *testing.T) {
	t.Parallel()
	r := start(t)
	for source, want := range map[string]string{
		"saltmre":   `line 3, column 9: there is no source "saltmre"; did you mean "saltmere"?`,
		"elsewhere": `line 3, column 9: there is no source "elsewhere"; name one that the service keeps, or write a DSN`,
	} {
		_, err := r.Operator.PushDraft(t.Context(), "lost", "window: lost\n# a comment\nsource: "+source+"\nresources: {tug: {}}\n")
		if err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%v, want %s", err, want)
		}
	}
}
