package server_test

import (
	"context"
	"encoding/json"
	"flag"
	"fmt"
	"maps"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"github.com/jackc/pgx/v5"

	"eagerwindow/internal/harbourtest"
)

// world is what the tables of the test hold, as plain Go. Rows of identity tables go by their unique name; "" is null.
type world struct {
	crew  map[string]sailor
	boats map[string]boat
	trips map[[2]string]string // by boat and day: the note
	tags  map[string]bool
	tied  map[[2]string]bool // boat and tag
}

type sailor struct {
	age  int // 0: null
	boss string
}

type boat struct {
	name   string
	length int
	owner  string
}

func (w *world) clone() *world {
	return &world{maps.Clone(w.crew), maps.Clone(w.boats), maps.Clone(w.trips), maps.Clone(w.tags), maps.Clone(w.tied)}
}

func (w *world) lines() []string {
	var out []string
	for n, s := range w.crew {
		out = append(out, fmt.Sprintf("crew %s %d %s", n, s.age, s.boss))
	}
	for c, b := range w.boats {
		out = append(out, fmt.Sprintf("boat %s %s %d %s", c, b.name, b.length, b.owner))
	}
	for k, note := range w.trips {
		out = append(out, fmt.Sprintf("trip %s %s %s", k[0], k[1], note))
	}
	for n := range w.tags {
		out = append(out, "tag "+n)
	}
	for k := range w.tied {
		out = append(out, fmt.Sprintf("tied %s %s", k[0], k[1]))
	}
	slices.Sort(out)
	return out
}

const worldTables = `
create table crew (id int generated always as identity primary key, name text not null unique, age int check (age between 16 and 99),
			boss_id int references crew);
create table boat (code text primary key, name text not null default 'unnamed', length int check (length > 0),
			owner_id int references crew);
create table trip (boat_code text not null references boat, day date not null, note text, primary key (boat_code, day));
create table tag (id int generated always as identity primary key, label text not null unique);
create table boat_tag (boat_code text references boat, tag_id int references tag, primary key (boat_code, tag_id));`

const worldLines = `
select 'crew ' || c.name || ' ' || coalesce(c.age, 0) || ' ' || coalesce(b.name,
			'') from crew c left join crew b on b.id = c.boss_id union all
select 'boat ' || code || ' ' || b.name || ' ' || coalesce(length, 0) || ' ' || coalesce(c.name,
			'') from boat b left join crew c on c.id = owner_id union all
select 'trip ' || boat_code || ' ' || day || ' ' || coalesce(note, '') from trip union all
select 'tag ' || label from tag union all
select 'tied ' || boat_code || ' ' || label from boat_tag join tag on id = tag_id`

// move is one write, and what it should do.
type move struct {
	method, path, body string
	headers            []string
	status             int // that the model expects
	after              *world
	shows              []string // the keys of the rows that the answer has, in their order
}

// player makes random writes. It knows the ids that the database has given.
type player struct {
	*rand.Rand
	w    *world
	crew map[string]int
	tags map[string]int
}

func choose[T any](p *player, list ...T) T { return list[p.IntN(len(list))] }

func (p *player) sailor() string {
	return choose(p, "Ada", "Bo", "Cy", "Di", "Ed", "Flo", "Gus", "Hal")
}
func (p *player) boat() string { return choose(p, "A1", "B2", "C3", "D4", "E5", "F6") }
func (p *player) day() string  { return fmt.Sprintf("2026-07-%02d", 1+p.IntN(6)) }
func (p *player) tag() string  { return choose(p, "red", "new", "ice", "old", "fast") }
func (p *player) sized() int   { return p.IntN(12) - 1 } // -1 and 0 break the check
func (p *player) aged() int    { return 10 + p.IntN(60) }
func (p *player) ref(n string) int { // an id, also of nobody
	if id, ok := p.crew[n]; ok {
		return id
	}
	return 99999
}

// knows reports whether there is somebody of that name whose id is known: of one that was made in the same batch, it is not.
func (p *player) knows(w *world, name string) bool {
	_, known := p.crew[name]
	_, there := w.crew[name]
	return known && there
}
func (p *player) tagRef(n string) int {
	if id, ok := p.tags[n]; ok {
		return id
	}
	return 99999
}

// check gives a status where a value breaks a check, else 0.
func lengthStatus(n int) int {
	if n <= 0 {
		return 422
	}
	return 0
}

func ageStatus(n int) int {
	if n < 16 || n > 99 {
		return 422
	}
	return 0
}

func first(statuses ...int) int {
	for _, s := range statuses {
		if s != 0 {
			return s
		}
	}
	return 0
}

func when(bad bool, status int) int {
	if bad {
		return status
	}
	return 0
}

// one is a write of a single row.
func (p *player) one(w *world) move {
	a := w.clone()
	m := move{after: a}
	code, name := p.boat(), p.sailor()
	b, isBoat := a.boats[code]
	s, isSailor := a.crew[name]
	switch p.IntN(9) {
	case 0:
		age, boss := p.aged(), p.sailor()
		hasBoss := p.knows(a, boss)
		m.method, m.path, m.body = "POST", "/crew", fmt.Sprintf(`{"name":%q,"age":%d,"boss_id":%d}`, name, age, p.ref(boss))
		m.status = first(ageStatus(age), when(isSailor || !hasBoss, 409), 201)
		a.crew[name] = sailor{age, boss}
	case 1:
		m.method, m.path, m.body = "POST", "/crew", fmt.Sprintf(`{"name":%q}`, name)
		m.status = first(when(isSailor, 409), 201)
		a.crew[name] = sailor{}
	case 2:
		age := p.aged()
		m.method, m.path, m.body = "PATCH", fmt.Sprintf("/crew/%d", p.ref(name)), fmt.Sprintf(`{"age":%d}`, age)
		m.status = first(ageStatus(age), when(!p.knows(a, name), 404), 200)
		s.age = age
		a.crew[name] = s
	case 3:
		used := false
		for n, o := range a.crew {
			used = used || o.boss == name && n != name
		}
		for _, o := range a.boats {
			used = used || o.owner == name
		}
		m.method, m.path = "DELETE", fmt.Sprintf("/crew/%d", p.ref(name))
		m.status = first(when(!p.knows(a, name), 404), when(used, 409), 204)
		delete(a.crew, name)
	case 4:
		length := p.sized()
		m.method, m.path, m.body = "PUT", "/boats/"+code, fmt.Sprintf(`{"length":%d}`, length)
		m.status = first(lengthStatus(length), when(isBoat, 200), 201)
		a.boats[code] = boat{"unnamed", length, ""}
	case 5:
		owned := p.knows(a, name)
		m.method, m.path, m.body = "PATCH", "/boats/"+code, fmt.Sprintf(`{"name":%q,"owner_id":%d}`, name, p.ref(name))
		m.status = first(when(!owned, 409), when(isBoat, 200), 201)
		a.boats[code] = boat{name, b.length, name}
	case 6:
		used := false
		for k := range a.trips {
			used = used || k[0] == code
		}
		for k := range a.tied {
			used = used || k[0] == code
		}
		m.method, m.path = "DELETE", "/boats/"+code
		m.status = first(when(!isBoat, 404), when(used, 409), 204)
		delete(a.boats, code)
	case 7:
		day, note := p.day(), choose(p, "calm", "rain")
		_, isTrip := a.trips[[2]string{code, day}]
		m.method, m.path, m.body = "PUT", "/trips/"+code+"/"+day, fmt.Sprintf(`{"note":%q}`, note)
		m.status = first(when(!isBoat, 409), when(isTrip, 200), 201)
		a.trips[[2]string{code, day}] = note
	case 8:
		length := p.sized()
		m.method, m.path, m.body = "PUT", "/boats/"+code+"/length", fmt.Sprintf(`{"value":%d}`, length)
		m.status = first(lengthStatus(length), when(!isBoat, 404), 200)
		b.length = length
		a.boats[code] = b
	}
	return m
}

// move is a write of any kind.
func (p *player) move(w *world) move {
	a := w.clone()
	m := move{after: a}
	code, name, tag := p.boat(), p.sailor(), p.tag()
	b, isBoat := a.boats[code]
	_, isSailor := a.crew[name]
	switch p.IntN(14) {
	default:
		return p.one(w)
	case 0: // every row of a filter
		n := p.IntN(10)
		m.method, m.path, m.body, m.status = "PATCH", fmt.Sprintf("/boats/$filter(length gt %d)/$each", n), fmt.Sprintf(`{"name":%q}`, name), 204
		for c, o := range a.boats {
			if o.length > n {
				o.name = name
				a.boats[c] = o
			}
		}
	case 1:
		day := p.day()
		m.method, m.path, m.status = "DELETE", "/trips/$filter(@f)/$each?@f=day lt "+day+" and boat/name ne 'Ada'", 204
		maps.DeleteFunc(a.trips, func(k [2]string, _ string) bool { return k[1] < day && a.boats[k[0]].name != "Ada" })
	case 2: // a delta of a collection
		p.delta(&m)
	case 3:
		m.method, m.path, m.body = "POST", "/boats/"+code+"/tags/$ref", fmt.Sprintf(`{"@id":"tags/%d"}`, p.tagRef(tag))
		m.status = first(when(!isBoat || !a.tags[tag], 404), 204)
		a.tied[[2]string{code, tag}] = true
	case 4:
		m.method, m.path = "DELETE", fmt.Sprintf("/boats/%s/tags/%d/$ref", code, p.tagRef(tag))
		m.status = first(when(!a.tied[[2]string{code, tag}], 404), 204)
		delete(a.tied, [2]string{code, tag})
	case 5:
		m.method, m.path, m.body = "PUT", "/boats/"+code+"/owner/$ref", fmt.Sprintf(`{"@id":"crew/%d"}`, p.ref(name))
		m.status = first(when(!isBoat || !isSailor, 404), 204)
		b.owner = name
		a.boats[code] = b
	case 6:
		m.method, m.path = "DELETE", "/boats/"+code+"/owner/$ref"
		m.status = first(when(!isBoat, 404), 204)
		b.owner = ""
		a.boats[code] = b
	case 7: // rows in a row
		label, day, again := p.tag(), p.day(), p.day()
		m.method, m.path, m.body = "POST", "/boats",
			fmt.Sprintf(`{"code":%q,"owner":{"name":%q},"tags":[{"label":%q}],"trips":[{"day":%q},{"day":%q,"note":"calm"}]}`, code, name, label,
				day, again)
		m.status = first(when(isSailor || isBoat || a.tags[label] || day == again, 409), 201)
		a.crew[name], a.boats[code], a.tags[label], a.tied[[2]string{code, label}] = sailor{}, boat{"unnamed", 0, name}, true, true
		a.trips[[2]string{code, day}], a.trips[[2]string{code, again}] = "", "calm"
	case 8: // the whole of a relation
		other := p.tag()
		m.method, m.path, m.body = "PATCH", "/boats/"+code, fmt.Sprintf(`{"tags":[{"@id":"tags/%d"},{"@id":"tags(%d)"}]}`, p.tagRef(tag),
			p.tagRef(other))
		m.status = first(when(isBoat && (!a.tags[tag] || !a.tags[other]), 404), when(isBoat, 200), when(!a.tags[tag] || !a.tags[other], 404), 201)
		maps.DeleteFunc(a.tied, func(k [2]string, _ bool) bool { return k[0] == code })
		a.boats[code] = first2(isBoat, b, boat{"unnamed", 0, ""})
		a.tied[[2]string{code, tag}], a.tied[[2]string{code, other}] = true, true
	case 9: // changes of a relation
		day, gone := p.day(), p.day()
		_, there := a.trips[[2]string{code, gone}]
		m.method, m.path, m.body = "PATCH", "/boats/"+code,
			fmt.Sprintf(`{"trips@delta":[{"@removed":{"reason":"deleted"},"day":%q},{"day":%q,"note":"wind"}]}`, gone, day)
		m.status = first(when(!isBoat || !there, 404), 200)
		delete(a.trips, [2]string{code, gone})
		a.trips[[2]string{code, day}] = "wind"
	case 10: // all or nothing
		x := p.one(w)
		y := p.one(x.after)
		good := x.status < 400 && y.status < 400
		m.method, m.path, m.status, m.after = "POST", "/$batch", 200, y.after
		if !good {
			m.after = w
		}
		m.body = fmt.Sprintf(`{"requests":[{"id":"x","atomicityGroup":"g","method":%q,"url":%q%s},{"id":"y","atomicityGroup":"g","method":%q,`+
			`"url":%q%s}]}`,
			x.method, x.path, batched(x.body), y.method, y.path, batched(y.body))
	case 11: // the wrong version
		m = p.one(w)
		if m.method == "POST" || m.method == "PUT" && strings.HasSuffix(m.path, "/length") {
			return m
		}
		m.headers, m.after = []string{"If-Match", `W/"7"`}, w
		if m.status < 400 || m.status == 404 || m.status == 409 {
			m.status = 412
		}
	case 12:
		m.method, m.path, m.body, m.status, m.after = "PATCH", "/boats/"+code,
			choose(p, `{"length":"7"}`, `{"nam":"x"}`, `{"name":null}`, `{`, `{"length":1.5}`), 400, w
	}
	return m
}

func first2[T any](is bool, a, b T) T {
	if is {
		return a
	}
	return b
}

func batched(body string) string {
	if body == "" {
		return ""
	}
	return `,"body":` + body
}

// delta is a change of the boats with three items.
func (p *player) delta(m *move) {
	a := m.after
	var items, keys []string
	var removed, changed []func() int
	named := map[string]bool{}
	twice, broken := false, false
	for range 3 {
		code, length := p.boat(), p.sized()
		twice = twice || named[code]
		named[code] = true
		if p.IntN(4) == 0 {
			items, keys = append(items, fmt.Sprintf(`{"@removed":{"reason":"deleted"},"code":%q}`, code)), append(keys, "boats/"+code)
			removed = append(removed, func() int {
				_, is := a.boats[code]
				used := false
				for k := range a.trips {
					used = used || k[0] == code
				}
				for k := range a.tied {
					used = used || k[0] == code
				}
				delete(a.boats, code)
				return first(when(used, 409), when(!is, 404))
			})
			continue
		}
		keys = append(keys, code)
		broken = broken || length <= 0
		if p.IntN(2) == 0 {
			items = append(items, fmt.Sprintf(`{"code":%q,"length":%d}`, code, length))
		} else {
			items = append(items, fmt.Sprintf(`{"code":%q,"length":%d,"name":"delta"}`, code, length))
		}
		renamed := strings.HasSuffix(items[len(items)-1], `"delta"}`)
		changed = append(changed, func() int {
			b, is := a.boats[code]
			if !is {
				b.name = "unnamed"
			}
			if renamed {
				b.name = "delta"
			}
			b.length = length
			a.boats[code] = b
			return 0
		})
	}
	m.method, m.path, m.body = "PATCH", "/boats", `{"value":[`+strings.Join(items, ",")+`]}`
	statuses := []int{}
	for _, do := range append(removed, changed...) {
		statuses = append(statuses, do())
	}
	slices.SortFunc(statuses, func(x, y int) int { return y - x }) // a reference stops the statement before a missing row is noticed
	m.status = first(when(broken, 422), when(twice, 400), first(statuses...), 204)
	if p.IntN(2) == 0 {
		m.headers = []string{"Prefer", "return=representation"}
		if m.status == 204 {
			m.status, m.shows = 200, keys
		}
	}
}

var seed = flag.Uint64("seed", 11, "of the random writes")

// Two thousand random writes of all kinds: the database and the model agree at the end and on the way, whatever failed in between.
func TestRandomWrites(t *testing.T) {
	t.Parallel()
	r := start(t)
	ctx := context.Background()
	dsn := database(t, worldTables)
	if _, err := r.Operator.PushDraft(ctx, "world", "window: world\nsource: "+dsn+"\nresources: {crew: {from: crew}, boats: {from: boat}, "+
		"trips: {from: trip}, tags: {from: tag}}\nroles: {all: {may: {\"*\": [read, create, update, delete]}}}\n"); err != nil {
		t.Fatal(err)
	}
	conn, err := pgx.Connect(ctx, dsn)
	if err != nil {
		t.Fatal(err)
	}
	defer conn.Close(ctx)
	p := &player{Rand: rand.New(rand.NewPCG(7, *seed)), w: &world{map[string]sailor{}, map[string]boat{}, map[[2]string]string{},
		map[string]bool{}, map[[2]string]bool{}}}
	ids := func(sql string) map[string]int {
		rows, err := conn.Query(ctx, sql)
		if err != nil {
			t.Fatal(err)
		}
		out, name, id := map[string]int{}, "", 0
		if _, err := pgx.ForEachRow(rows, []any{&name, &id}, func() error { out[name] = id; return nil }); err != nil {
			t.Fatal(err)
		}
		return out
	}
	outcomes := map[int]int{}
	for i := range 2000 {
		p.crew, p.tags = ids("select name, id from crew"), ids("select label, id from tag")
		m := p.move(p.w)
		if m.method == "POST" && i%3 == 0 && m.path != "/$batch" {
			m.headers = append(m.headers, "Idempotency-Key", fmt.Sprint("key-", i))
		}
		a := write(t, r, r.Operator.Token, m.method, "/draft/world"+strings.ReplaceAll(m.path, " ", "%20"), m.body,
			append([]string{"Act-As", "all"}, m.headers...)...)
		if len(m.headers) > 0 && m.headers[0] == "Idempotency-Key" && a.StatusCode < 300 {
			if again := write(t, r, r.Operator.Token, m.method, "/draft/world"+m.path, m.body,
				append([]string{"Act-As", "all"}, m.headers...)...); again.StatusCode != a.StatusCode || again.Text != a.Text {
				t.Fatalf("%d: repeated: %s %s, before %s %s", i, again.Status, again.Text, a.Status, a.Text)
			}
		}
		outcomes[outcome(t, a)]++
		if a.StatusCode != m.status {
			t.Fatalf("%d: %s %s %s %v: %s %s\nwant %d with\n%s", i, m.method, m.path, m.body, m.headers, a.Status, a.Text, m.status,
				strings.Join(p.w.lines(), "\n"))
		}
		if got := keysOf(t, a); m.shows != nil && !slices.Equal(got, m.shows) {
			t.Fatalf("%d: %s %s %s shows %v, want %v", i, m.method, m.path, m.body, got, m.shows)
		}
		if m.status < 400 {
			p.w = m.after
		}
		rows, err := conn.Query(ctx, worldLines)
		if err != nil {
			t.Fatal(err)
		}
		got, err := pgx.CollectRows(rows, pgx.RowTo[string])
		if err != nil {
			t.Fatal(err)
		}
		slices.Sort(got)
		if want := p.w.lines(); !slices.Equal(got, want) {
			t.Fatalf("%d: after %s %s %s (%s %s):\n%s\nwant\n%s", i, m.method, m.path, m.body, a.Status, a.Text, strings.Join(got, "\n"),
				strings.Join(want, "\n"))
		}
	}
	t.Logf("statuses: %v", outcomes)
}

// keysOf are the codes of the boats that an answer shows, and the paths of those that are gone.
func keysOf(t *testing.T, a harbourtest.Answer) (keys []string) {
	if !strings.Contains(a.Text, "/$delta") {
		return nil
	}
	var shown struct {
		Value []struct {
			Code string
			ID   string `json:"@id"`
		}
	}
	decode(t, a.Text, &shown)
	for _, v := range shown.Value {
		keys = append(keys, v.ID+v.Code)
	}
	return keys
}

// outcome is the status, or the worst one in a batch.
func outcome(t *testing.T, a harbourtest.Answer) int {
	worst := a.StatusCode
	if strings.HasPrefix(a.Text, `{"responses"`) {
		var b struct{ Responses []struct{ Status int } }
		if err := json.Unmarshal([]byte(a.Text), &b); err != nil {
			t.Fatal(err)
		}
		for _, r := range b.Responses {
			worst = max(worst, r.Status)
		}
	}
	return worst
}
