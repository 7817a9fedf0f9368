package compare_test

import (
	"fmt"
	"strings"
	"testing"

	"eagerwindow/internal/core/access"
	"eagerwindow/internal/core/catalog"
	"eagerwindow/internal/core/compare"
	"eagerwindow/internal/core/coretest"
	"eagerwindow/internal/core/window"
)

// document is the version that each row of the table changes.
const document = `
window: harbour
title: Port of Saltmere
about: Arrivals.
version: 1.0.0
source: saltmere
resources:
  vessels:
    from: harbour.vessel
    fields:
      internal_note: {expose: false}
  calls:
    from: harbour.port_call
    order: [eta desc, id]
    page: {default: 50, max: 1000}
    relations:
      tugs: {to: tugs, through: harbour.port_call_tug}
  berths: {from: harbour.berth}
  tugs: {from: harbour.tug}
  cargo: {from: harbour.cargo_item}
  agents: {from: harbour.agent}
saved_views:
  board: {of: calls, select: "id,eta,status", expand: vessel(select=name), filter: status eq 'expected', orderby: eta}
  notices: {of: tugs}
queries:
  berth_load:
    parameters: {from: date, to: date, quay: text?}
    sql: |
      select berth_code, sum(extract(epoch from departed_at - arrived_at))/3600 as hours
      from harbour.port_call
      where arrived_at >= :from and departed_at < :to and (:quay::text is null or berth_code like :quay || '%')
      group by berth_code
roles:
  public:
    anonymous: true
    may: {board: read}
  agent:
    about: A shipping agent.
    claims: {agent_id: integer}
    limits: {rows: 500, requests: 600/minute}
    may:
      vessels:
        read: {rows: agent_id eq @caller/agent_id}
      calls:
        read: {except: [remarks]}
        create: {fields: [vessel_id, eta, draught_m], set: {status: expected}}
        update: {fields: [eta]}
      berth_load: read
      berths: read
  office:
    may: {"*": [read, create, update, delete], agents: [], notices: [read]}
sign_in:
  clients: true
  accounts: {sign_up: true, default_role: agent}
  issuers: [{issuer: "https://id.saltmere.example", jwks: "https://id.saltmere.example/keys", role: role, audience: saltmere}]
browsers: {origins: ["https://board.saltmere.example"]}
`

// edit changes a catalog.
type edit func(*catalog.Catalog)

func table(c *catalog.Catalog, name string) *catalog.Table { return c.Find("harbour", name) }

// column changes a column, "table.column".
func column(name string, change func(*catalog.Column)) edit {
	t, col, _ := strings.Cut(name, ".")
	return func(c *catalog.Catalog) { change(table(c, t).Column(col)) }
}

// typ changes the type of a column, which no other column shares afterwards.
func typ(name string, change func(*catalog.Type)) edit {
	return column(name, func(c *catalog.Column) {
		t := *c.Type
		change(&t)
		c.Type = &t
	})
}

// typeOf gives a column the type of another one.
func typeOf(name, other string) edit {
	t, col, _ := strings.Cut(other, ".")
	return func(c *catalog.Catalog) {
		column(name, func(changed *catalog.Column) { changed.Type = table(c, t).Column(col).Type })(c)
	}
}

// with adds a column of the type of another one.
func with(name, like string, change ...func(*catalog.Column)) edit {
	t, col, _ := strings.Cut(name, ".")
	from, other, _ := strings.Cut(like, ".")
	return func(c *catalog.Catalog) {
		added := &catalog.Column{Name: col, Type: table(c, from).Column(other).Type}
		for _, f := range change {
			f(added)
		}
		table(c, t).Columns = append(table(c, t).Columns, added)
	}
}

func without(name string) edit {
	t, col, _ := strings.Cut(name, ".")
	return func(c *catalog.Catalog) {
		of := table(c, t)
		for i, column := range of.Columns {
			if column.Name == col {
				of.Columns = append(of.Columns[:i:i], of.Columns[i+1:]...)
				return
			}
		}
	}
}

func notNull(c *catalog.Column)      { c.NotNull = true }
func nullable(c *catalog.Column)     { c.NotNull = false }
func withDefault(c *catalog.Column)  { c.Default = "'x'" }
func noDefault(c *catalog.Column)    { c.Default = "" }
func generatedNow(c *catalog.Column) { c.Generated = true }

func change(t string, f func(*catalog.Table)) edit {
	return func(c *catalog.Catalog) { f(table(c, t)) }
}

func all(edits ...edit) edit {
	return func(c *catalog.Catalog) {
		for _, e := range edits {
			e(c)
		}
	}
}

// The verdicts: each row is a change of the document (a text and what stands there afterwards, in pairs), of the catalog, or of both. With
// back, the same difference the other way round. A wanted line is effect, target and role.
var verdicts = []struct {
	name    string
	text    []string
	catalog edit
	want    string
	back    string
}{
	{name: "nothing", want: "", back: ""},

	// Resources.
	{name: "resource", text: []string{"  tugs: {from: harbour.tug}\n", "",
		"    relations:\n      tugs: {to: tugs, through: harbour.port_call_tug}\n", "",
		"  notices: {of: tugs}\n", "", ", notices: [read]", ""},
		want: "breaking calls.tugs; breaking tugs; breaking notices",
		back: "compatible calls.tugs; compatible tugs; compatible notices; compatible tugs office; compatible notices office"},
	{name: "resource that nobody reaches", text: []string{"  agents: {from: harbour.agent}\n", "", "agents: [], ", ""},
		want: "internal vessels.agent; internal agents", back: "compatible vessels.agent; compatible agents"},
	{name: "resource renamed", text: []string{"  cargo: {from", "  freight: {from"},
		want: "breaking calls.cargo; breaking cargo; compatible calls.freight; compatible freight; compatible freight office"},
	{name: "table", text: []string{"notices: {of: tugs}", "notices: {of: berths, select: \"code\"}"},
		want: "breaking notices; breaking notices.id; breaking notices.name; breaking notices.bollard_pull_t; " +
			"compatible notices; compatible notices.code; compatible notices.code office"},
	{name: "operations", text: []string{"  tugs: {from: harbour.tug}", "  tugs: {from: harbour.tug, operations: [read, update]}"},
		want: "breaking tugs; breaking tugs", back: "compatible tugs; compatible tugs; compatible tugs office"},
	{name: "key", text: []string{"berths: {from: harbour.berth}", "berths: {from: harbour.berth, key: [quay]}"}, want: "breaking berths"},
	{name: "no key", catalog: change("weather_log", func(t *catalog.Table) { t.Columns[0].NotNull = true }), want: ""},
	{name: "alternate key", catalog: change("vessel", func(t *catalog.Table) { t.Uniques = nil }), want: "breaking vessels",
		back: "compatible vessels"},
	{name: "order", text: []string{"order: [eta desc, id]", "order: [eta, id]"}, want: "breaking calls", back: "breaking calls"},
	{name: "page", text: []string{"page: {default: 50, max: 1000}", "page: {default: 20, max: 100}"}, want: "internal calls; internal calls"},
	{name: "if match", text: []string{"    order: [eta desc, id]\n", "    order: [eta desc, id]\n    if_match: required\n"},
		want: "breaking calls", back: "compatible calls"},
	{name: "the end of a resource", text: []string{"  tugs: {from: harbour.tug}",
		"  tugs: {from: harbour.tug, deprecated: {since: 2026-12-01}}"},
		want: "internal tugs"},
	{name: "the end of a field", text: []string{"  tugs: {from: harbour.tug}",
		"  tugs: {from: harbour.tug, fields: {name: {deprecated: true}}}"},
		want: "internal tugs.name; internal notices.name"},
	{name: "what the description says besides", text: []string{"about: Arrivals.\n",
		"about: Arrivals.\ndescription: {contact: {name: Office}, " +
			"license: {name: MIT}, servers: [https://api.example]}\n"},
		want: "internal description.contact; internal description.license; internal description.servers"},
	{name: "words of a resource", text: []string{"  tugs: {from: harbour.tug}", "  tugs: {from: harbour.tug, about: Strong boats.}"},
		want: "internal calls.tugs about; internal tugs about"},

	// Fields.
	{name: "field", catalog: without("port_call.remarks"), text: []string{"{except: [remarks]}", "{}"},
		want: "breaking calls.remarks", back: "compatible+ calls.remarks office; compatible calls.remarks"},
	{name: "field that nobody reaches", catalog: without("agent.phone"), want: "internal agents.phone", back: "compatible agents.phone"},
	{name: "field hidden", text: []string{"internal_note: {expose: false}", "internal_note: {expose: false}\n      built_on: {expose: false}"},
		want: "breaking vessels.built_on",
		back: "compatible vessels.built_on; compatible vessels.built_on agent; compatible vessels.built_on office"},
	{name: "field renamed by the document", text: []string{"internal_note: {expose: false}",
		"internal_note: {expose: false}\n      built_on: {name: launched}"},
		want: "breaking vessels.built_on; compatible vessels.launched; compatible vessels.launched agent; compatible vessels.launched office"},
	{name: "field renamed in the database", catalog: column("vessel.built_on", func(c *catalog.Column) { c.Name = "launched_on" }),
		want: "compatible+ vessels.launched_on agent; compatible+ vessels.launched_on office; breaking vessels.built_on; compatible " +
			"vessels.launched_on"},
	{name: "another column under the name", text: []string{"internal_note: {expose: false}",
		"internal_note: {name: flag}\n      flag: {expose: false}"},
		want: "breaking vessels.flag; breaking vessels.flag; breaking vessels; compatible vessels.flag; compatible vessels.flag; " +
			"compatible vessels.flag; " +
			"internal vessels.flag about"},
	{name: "words of a field", catalog: column("berth.code", func(c *catalog.Column) { c.Comment = "x" }), want: "internal berths.code about"},

	// What the database widens.
	{name: "column", catalog: with("berth.crane", "berth.quay"),
		want: "compatible+ berths.crane agent; compatible+ berths.crane office; compatible berths.crane",
		back: "breaking berths.crane"},
	{name: "column like a secret", catalog: all(with("vessel.yard", "vessel.name"), with("vessel.api_key", "vessel.internal_note")),
		want: "compatible+ vessels.api_key agent; compatible+ vessels.api_key office; compatible+ vessels.yard agent; compatible+ " +
			"vessels.yard office; " +
			"compatible vessels.yard; compatible vessels.api_key"},
	{name: "column that the resource names", catalog: with("vessel.yard", "vessel.internal_note"),
		text: []string{"internal_note: {expose: false}", "internal_note: {expose: false}\n      yard: {about: Where it was built.}"},
		want: "compatible vessels.yard; compatible vessels.yard agent; compatible vessels.yard office"},
	{name: "column that the grant names", catalog: with("berth.crane", "berth.quay"),
		text: []string{"      berths: read\n",
			"      berths:\n        read: {fields: [code, quay, length_m, max_draught_m, shore_power, crane]}\n",
			"agents: [],", "agents: [], berths: [read, create, update, delete],"},
		want: "compatible+ berths.crane office; compatible berths.crane; compatible berths.crane agent"},
	{name: "column that is left out", catalog: with("berth.crane", "berth.quay"),
		text: []string{"      berths: read\n", "      berths:\n        read: {except: [crane]}\n", "agents: [],",
			"agents: [], berths: {read: {except: [crane]}},"},
		want: "breaking berths office; breaking berths office; breaking berths office; compatible berths.crane"},
	{name: "column in a saved view", catalog: with("tug.owner", "tug.name", nullable),
		want: "compatible+ tugs.owner office; compatible+ notices.owner office; compatible tugs.owner; compatible notices.owner"},
	{name: "column in an expanded relation", catalog: with("vessel.yard", "vessel.internal_note"),
		text: []string{"expand: vessel(select=name)", "expand: vessel(compute=1 as one)"},
		want: "compatible+ board.vessel.yard public; compatible+ vessels.yard agent; compatible+ vessels.yard office; compatible+ " +
			"board.vessel.yard office; " +
			"compatible vessels.yard; compatible board.vessel.id; compatible board.vessel.imo_number; compatible board.vessel.flag; " +
			"compatible board.vessel.kind; compatible board.vessel.gross_tonnage; compatible board.vessel.built_on; compatible " +
			"board.vessel.agent_id; " +
			"compatible board.vessel.tags; compatible board.vessel.particulars; compatible board.vessel.yard; compatible board.vessel.one"},
	{name: "column of a named query", catalog: func(c *catalog.Catalog) {
		for _, q := range c.Queries {
			q.Columns = append(q.Columns, &catalog.Column{Name: "quay", Type: q.Columns[0].Type})
		}
	}, want: "compatible+ berth_load.quay agent; compatible+ berth_load.quay office; compatible berth_load.quay",
		back: "breaking berth_load.quay"},

	// Types.
	{name: "null", catalog: column("port_call.draught_m", nullable), want: "breaking calls.draught_m; compatible calls.draught_m",
		back: "breaking calls.draught_m; breaking calls.draught_m"},
	{name: "null of what is only read", catalog: column("agent.name", nullable), want: "internal agents.name; internal agents.name",
		back: "internal agents.name; internal agents.name"},
	{name: "integer of 64 bits", catalog: typeOf("cargo_item.port_call_id", "agent.id"), want: ""},
	{name: "text to number", catalog: typeOf("cargo_item.description", "cargo_item.tonnes"), want: "breaking cargo.description",
		back: "breaking cargo.description"},
	{name: "number to double", catalog: typeOf("berth.length_m", "tide_reading.height_m"), want: "breaking berths.length_m"},
	{name: "timestamp to date", catalog: typeOf("port_call.etd", "agent.since"), want: "breaking calls.etd", back: "breaking calls.etd"},
	{name: "array to one", catalog: typeOf("vessel.tags", "vessel.name"), want: "breaking vessels.tags", back: "breaking vessels.tags"},
	{name: "small integer", catalog: typ("vessel.agent_id", func(t *catalog.Type) { t.Name, t.SQL = "int2", "smallint" }),
		want: "breaking vessels.agent_id",
		back: "compatible vessels.agent_id"},
	{name: "large integer", catalog: typ("vessel.agent_id", func(t *catalog.Type) { t.Name, t.SQL = "int8", "bigint" }),
		want: "breaking vessels.agent_id",
		back: "breaking vessels.agent_id"},
	{name: "single to double", catalog: all(typ("berth.length_m", func(t *catalog.Type) {
		*t = catalog.Type{Kind: "base",
			Schema: "pg_catalog", Name: "float8"}
	})),
		want: "breaking berths.length_m"},
	{name: "value of an enum", catalog: typ("port_call.status", func(t *catalog.Type) { t.Values = append([]string{"moored"}, t.Values...) }),
		want: "breaking calls.status; breaking board.status", back: "breaking calls.status; breaking board.status"},
	{name: "order of an enum", catalog: typ("port_call.status", func(t *catalog.Type) {
		t.Values = append([]string{t.Values[1], t.Values[0]}, t.Values[2:]...)
	}), want: "breaking calls.status; breaking board.status"},
	{name: "enum to text", catalog: typeOf("vessel.kind", "vessel.name"), want: "breaking vessels.kind", back: "breaking vessels.kind"},
	{name: "length", catalog: typ("vessel.flag", func(t *catalog.Type) { t.Length = 3 }), want: "compatible vessels.flag",
		back: "breaking vessels.flag"},
	{name: "length at all", catalog: typ("tug.name", func(t *catalog.Type) { t.Length = 40 }),
		want: "breaking tugs.name; compatible notices.name",
		back: "compatible tugs.name; compatible notices.name"},
	{name: "precision", catalog: typ("port_call.draught_m", func(t *catalog.Type) { t.Precision = 6 }), want: "compatible calls.draught_m",
		back: "breaking calls.draught_m"},
	{name: "scale", catalog: typ("port_call.draught_m", func(t *catalog.Type) { t.Scale = 3 }), want: "breaking calls.draught_m"},
	{name: "time zone", catalog: typ("port_call.etd", func(t *catalog.Type) { t.Name = "timestamp" }), want: "compatible calls.etd"},
	{name: "element of an array", catalog: typ("vessel.tags", func(t *catalog.Type) {
		e := *t.Element
		e.Name, e.SQL = "int4", "integer"
		t.Element = &e
	}), want: "breaking vessels.tags[]"},
	{name: "generated", catalog: column("port_call.etd", generatedNow), want: "breaking calls.etd", back: "compatible calls.etd"},
	{name: "identity", catalog: column("tug.id", func(c *catalog.Column) { c.Identity = catalog.ByDefault }), want: "compatible tugs.id"},
	{name: "domain with a check", catalog: typ("tug.name", func(t *catalog.Type) {
		base := *t
		*t = catalog.Type{Kind: catalog.Domain, Name: "tug_name", SQL: "tug_name", Element: &base,
			Checks: []catalog.Check{{Expression: "length(VALUE) > 2"}}}
	}), want: "breaking tugs.name; compatible tugs.name; compatible notices.name",
		back: "breaking tugs.name; compatible tugs.name; compatible notices.name"},

	// What must be given, and what the database asks.
	{name: "required field", catalog: with("tug.owner", "tug.name", notNull),
		want: "compatible+ tugs.owner office; compatible+ notices.owner office; breaking tugs.owner; compatible tugs.owner; compatible " +
			"notices.owner"},
	{name: "new field with a default", catalog: with("berth.crane", "berth.quay", notNull, withDefault),
		want: "compatible+ berths.crane agent; compatible+ berths.crane office; compatible berths.crane"},
	{name: "required column that is hidden", catalog: column("vessel.internal_note", notNull), want: "breaking vessels"},
	{name: "default goes", catalog: column("berth.shore_power", noDefault), want: "breaking berths.shore_power",
		back: "compatible berths.shore_power"},
	{name: "another default", catalog: column("berth.shore_power", func(c *catalog.Column) { c.Default = "true" }),
		want: "compatible berths.shore_power"},
	{name: "check", catalog: change("berth", func(t *catalog.Table) {
		t.Checks = append(t.Checks, catalog.Check{Name: "x", Expression: "length_m < 400", Columns: []string{"length_m"}})
	}), want: "breaking berths", back: "compatible berths"},
	{name: "check of what nobody writes", catalog: change("agent", func(t *catalog.Table) {
		t.Checks = append(t.Checks, catalog.Check{Name: "x", Expression: "name <> ''", Columns: []string{"name"}})
	}), want: "internal agents", back: "internal agents"},
	{name: "unique", catalog: change("berth", func(t *catalog.Table) {
		t.Indexes = append(t.Indexes, catalog.Index{Name: "x", Method: "btree", Columns: []string{"quay"}, Unique: true})
	}), want: "breaking berths", back: "compatible berths"},
	{name: "unique where", catalog: change("berth", func(t *catalog.Table) {
		t.Indexes = append(t.Indexes, catalog.Index{Name: "x", Method: "btree", Columns: []string{"quay"}, Unique: true, Partial: true,
			Definition: "CREATE UNIQUE INDEX x ON harbour.berth USING btree (quay) WHERE shore_power"})
	}), want: "breaking berths", back: "compatible berths"},
	{name: "index", catalog: change("berth", func(t *catalog.Table) {
		t.Indexes = append(t.Indexes, catalog.Index{Name: "x", Method: "btree", Columns: []string{"quay"}})
	}), want: "", back: ""},
	{name: "foreign key", catalog: change("berth", func(t *catalog.Table) {
		t.ForeignKeys = []catalog.ForeignKey{{Name: "x", Columns: []string{"quay"}, ToSchema: "harbour", ToTable: "tug",
			ToColumns: []string{"name"}}}
	}), want: "breaking berths; compatible berths.quay_tug; compatible tugs.berths",
		back: "breaking berths.quay_tug; breaking tugs.berths; compatible berths"},

	// Relations.
	{name: "relation", text: []string{"tugs: {to: tugs, through: harbour.port_call_tug}", "tugs: {expose: false}"},
		want: "breaking calls.tugs", back: "compatible calls.tugs"},
	{name: "relation renamed", text: []string{"tugs: {to: tugs,", "helpers: {to: tugs,"},
		want: "breaking calls.tugs; compatible calls.helpers"},
	{name: "relation to one or none", catalog: column("cargo_item.port_call_id", nullable),
		want: "breaking cargo.port_call_id; breaking cargo.port_call; compatible cargo.port_call_id",
		back: "breaking cargo.port_call_id; breaking cargo.port_call_id; compatible cargo.port_call"},
	{name: "relation by other fields", text: []string{"berths: {from: harbour.berth}",
		"berths: {from: harbour.berth, relations: {calls: {to: calls, on: {quay: remarks}}}}"},
		want: "breaking berths.calls; compatible berths.calls_2"},
	{name: "words of a relation", text: []string{"tugs: {to: tugs,", "tugs: {about: Boats., to: tugs,"}, want: "internal calls.tugs about"},

	// Saved views and named queries.
	{name: "field of a saved view", text: []string{"select: \"id,eta,status\"", "select: \"id,eta\""}, want: "breaking board.status",
		back: "compatible board.status; compatible board.status public; compatible board.status office"},
	{name: "filter that covers less", text: []string{"filter: status eq 'expected'", "filter: status eq 'expected' and hazardous"},
		want: "breaking board",
		back: "compatible board"},
	{name: "filter that covers more", text: []string{"filter: status eq 'expected'", "filter: status eq 'expected' or hazardous"},
		want: "compatible board",
		back: "breaking board"},
	{name: "other filter", text: []string{"filter: status eq 'expected'", "filter: status eq 'anchored'"}, want: "breaking board"},
	{name: "filter written in another way", text: []string{"filter: status eq 'expected'", "filter: (status eq 'expected')"}, want: ""},
	{name: "order of a saved view", text: []string{"orderby: eta", "orderby: eta desc"}, want: "breaking board"},
	{name: "relation of a saved view", text: []string{", expand: vessel(select=name)", ""}, want: "breaking board.vessel",
		back: "compatible board.vessel"},
	{name: "field of a relation of a saved view", text: []string{"vessel(select=name)", "vessel(select=flag)"},
		want: "breaking board.vessel.name; compatible board.vessel.flag"},
	{name: "parameter", text: []string{"parameters: {from: date, to: date, quay: text?}",
		"parameters: {from: date, to: timestamp, pier: text?}", ":quay", ":pier"},
		want: "breaking berth_load(to); breaking berth_load(quay); compatible berth_load(pier); compatible berth_load"},
	{name: "parameter that must be given", text: []string{"quay: text?", "quay: text"}, want: "breaking berth_load(quay)",
		back: "compatible berth_load(quay)"},
	{name: "statement", text: []string{"/3600 as hours", "/60 as hours"}, want: "compatible berth_load"},

	// Roles.
	{name: "role", text: []string{"  public:\n    anonymous: true\n    may: {board: read}\n", ""}, want: "breaking  public",
		back: "compatible  public"},
	{name: "role renamed", text: []string{"  office:\n", "  keeper:\n"}, want: "breaking  office; compatible  keeper"},
	{name: "role without a token", text: []string{"    anonymous: true\n", ""}, want: "breaking  public", back: "compatible  public"},
	{name: "claim", text: []string{"claims: {agent_id: integer}", "claims: {agent_id: integer, port: text}"}, want: "breaking  agent",
		back: "compatible  agent"},
	{name: "type of a claim", text: []string{"claims: {agent_id: integer}", "claims: {agent_id: number}"}, want: "breaking  agent"},
	{name: "limits", text: []string{"{rows: 500, requests: 600/minute}", "{rows: 100, requests: 20/second, time: 3s}"},
		want: "breaking  agent; breaking  agent; compatible  agent", back: "breaking  agent; compatible  agent; compatible  agent"},
	{name: "words of a role", text: []string{"about: A shipping agent.", "about: An agent."}, want: "internal role agent about"},

	// Grants.
	{name: "operation of a role", text: []string{"        update: {fields: [eta]}\n", ""}, want: "breaking calls agent",
		back: "compatible calls agent"},
	{name: "resource of a role", text: []string{"      berths: read\n", ""}, want: "breaking berths agent", back: "compatible berths agent"},
	{name: "what anyone may", text: []string{"may: {board: read}", "may: {board: read, tugs: read}"}, want: "compatible tugs public",
		back: "breaking tugs public"},
	{name: "field of a role", text: []string{"{except: [remarks]}", "{except: [remarks, draught_m]}"}, want: "breaking calls.draught_m agent",
		back: "compatible calls.draught_m agent"},
	{name: "field that a role sends", text: []string{"update: {fields: [eta]}", "update: {fields: [eta, etd]}"},
		want: "compatible calls.etd agent",
		back: "breaking calls.etd agent"},
	{name: "row rule", text: []string{"        read: {except: [remarks]}", "        read: {except: [remarks], rows: not hazardous}"},
		want: "breaking calls agent",
		back: "compatible calls agent"},
	{name: "other row rule", text: []string{"rows: agent_id eq @caller/agent_id", "rows: id eq @caller/agent_id"},
		want: "breaking vessels agent"},
	{name: "row rule that covers more", text: []string{"rows: agent_id eq @caller/agent_id",
		"rows: agent_id eq @caller/agent_id or flag eq 'NO'"},
		want: "compatible vessels agent", back: "breaking vessels agent"},
	{name: "preset", text: []string{"set: {status: expected}", "set: {status: anchored}"}, want: "compatible calls.status agent"},
	{name: "preset of a field that was sent", text: []string{"{fields: [vessel_id, eta, draught_m], set: {status: expected}}",
		"{fields: [vessel_id, eta], set: {status: expected, draught_m: 5}}"},
		want: "breaking calls.draught_m agent", back: "breaking calls.draught_m agent"},
	{name: "required field that a role may not give any more", text: []string{"create: {fields: [vessel_id, eta, draught_m]",
		"create: {fields: [vessel_id, eta]"},
		want: "breaking calls agent; breaking calls.draught_m agent", back: "compatible calls.draught_m agent"},

	// The window.
	{name: "words", text: []string{"title: Port of Saltmere", "title: Saltmere", "version: 1.0.0", "version: 1.1.0"},
		want: "internal title; internal version"},
	{name: "source", text: []string{"source: saltmere", "source: saltmere2"}, want: "internal "},
	{name: "tokens for programs", text: []string{"  clients: true\n", ""}, want: "breaking sign_in", back: "compatible sign_in"},
	{name: "accounts", text: []string{"  accounts: {sign_up: true, default_role: agent}\n", ""}, want: "breaking sign_in",
		back: "compatible sign_in"},
	{name: "sign-up", text: []string{"{sign_up: true, default_role: agent}", "{sign_up: false}"}, want: "breaking sign_in",
		back: "compatible sign_in"},
	{name: "role of those who sign up", text: []string{"default_role: agent", "default_role: office"}, want: "breaking sign_in"},
	{name: "issuer", text: []string{"jwks: \"https://id.saltmere.example/keys\"", "jwks: \"\""},
		want: "breaking sign_in https://id.saltmere.example",
		back: "compatible sign_in https://id.saltmere.example"},
	{name: "audience", text: []string{"audience: saltmere}", "audience: harbour}"}, want: "breaking sign_in https://id.saltmere.example"},
	{name: "keys of an issuer", text: []string{"example/keys", "example/keys2"}, want: "internal sign_in https://id.saltmere.example"},
	{name: "origins", text: []string{"[\"https://board.saltmere.example\"]", "[\"https://quay.saltmere.example\"]"},
		want: "breaking browsers.origins; compatible browsers.origins"},
	{name: "all origins", text: []string{"[\"https://board.saltmere.example\"]", "[\"*\"]"}, want: "compatible browsers.origins",
		back: "breaking browsers.origins; compatible browsers.origins"},
	{name: "public description", text: []string{"browsers:", "description: {public: all}\nbrowsers:"}, want: "compatible description.public",
		back: "breaking description.public"},
}

func side(t *testing.T, text string, change edit) compare.Side {
	t.Helper()
	doc, err := window.Parse([]byte(text), nil)
	if err != nil {
		t.Fatal(err)
	}
	cat := coretest.Catalog(t)
	if change != nil {
		change(cat)
	}
	p, err := access.Bind(doc, cat)
	if err != nil {
		t.Fatal(err)
	}
	return compare.Side{Policy: p, Catalog: cat}
}

// short is the changes of a list as the table has them, apart from their words.
func short(list []compare.Change) string {
	lines := make([]string, len(list))
	for i, c := range list {
		lines[i] = string(c.Effect)
		if c.Widens {
			lines[i] += "+"
		}
		lines[i] += " " + c.Target
		if c.Role != "" {
			lines[i] += " " + c.Role
		}
	}
	return strings.Join(lines, "; ")
}

func TestVerdicts(t *testing.T) {
	var golden strings.Builder
	for _, tt := range verdicts {
		t.Run(tt.name, func(t *testing.T) {
			edited := document
			for i := 0; i < len(tt.text); i += 2 {
				if !strings.Contains(edited, tt.text[i]) {
					t.Fatalf("the document does not have %q", tt.text[i])
				}
				edited = strings.ReplaceAll(edited, tt.text[i], tt.text[i+1])
			}
			a, b := side(t, document, nil), side(t, edited, tt.catalog)
			there, back := compare.Versions(a, b), compare.Versions(b, a)
			fmt.Fprintf(&golden, "%s\n", tt.name)
			for _, c := range there {
				fmt.Fprintf(&golden, "  %-10s %-10s %s\n", c.Effect, c.Area, c)
			}
			if got := short(there); got != tt.want {
				t.Errorf("there\n got %s\nwant %s", got, tt.want)
			}
			if got := short(back); tt.back != "" && got != tt.back {
				t.Errorf("back\n got %s\nwant %s", got, tt.back)
			}
		})
	}
	coretest.Golden(t, "testdata/changes.txt", golden.String())
}

// A document that follows the database opens tables that it does not name to every role with a "*", new ones and old ones.
func TestFollowingWidens(t *testing.T) {
	a, b := side(t, document, nil), side(t, document+"follow: true\n", nil)
	opened := map[string]bool{}
	for _, c := range compare.Versions(a, b) {
		opened[c.Role+" "+c.Target] = c.Widens
	}
	for _, want := range []string{"office pilot", "office due", "office tide_reading", "office weather_log", "office berth_occupancy"} {
		if !opened[want] {
			t.Errorf("%s is not told; %v", want, opened)
		}
	}
	if opened["agent pilot"] {
		t.Error("a role without a \"*\" gains nothing")
	}
}
