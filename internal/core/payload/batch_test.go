package payload_test

import (
	"fmt"
	"strings"
	"testing"

	"eagerwindow/internal/core/access"
	"eagerwindow/internal/core/coretest"
	"eagerwindow/internal/core/payload"
	"eagerwindow/internal/core/window"
)

// The requests of a batch as they are read, and all that keeps them from being run in their order, told at once.
func TestBatch(t *testing.T) {
	t.Parallel()
	const get = `"method":"GET","url":"tugs"`
	for _, tt := range []struct{ name, body, want string }{
		{"all members", `{"@context":"x","requests":[{"id":"1","method":"post","url":"tugs","atomicityGroup":"g","headers":{"If-Match":"*"},` +
			`"body":{"a":1}},{"id":"2","method":"DELETE","url":"$1","atomicityGroup":"g","dependsOn":["1"],"@note":7}]}`,
			`1 POST tugs g [] map[If-Match:*] {"a":1}; 2 DELETE $1 g [1] map[] `},
		{"nulls", `{"requests":[{"id":"1",` + get + `,"atomicityGroup":null,"dependsOn":null,"headers":null,"body":null}]}`,
			`1 GET tugs  [] map[] `},
		{"a body of another type", `{"requests":[{"id":"1","method":"PUT","url":"x","body":"text"}]}`, `1 PUT x  [] map[] "text"`},
		{"a group, then what depends on it", `{"requests":[{"id":"1",` + get + `,"atomicityGroup":"g"},{"id":"2",` + get +
			`,"dependsOn":["g","1"]}]}`, `1 GET tugs g [] map[] ; 2 GET tugs  [g 1] map[] `},
		{"nothing", ``, `body.missing the body is empty; send {"requests":[{"id":…,"method":…,"url":…},…]}`},
		{"no object", `[]`, `body.type the body is no JSON object; send {"requests":[{"id":…,"method":…,"url":…},…]}`},
		{"no JSON", "{\n\"requests\":[}", `body.syntax the body is not JSON: line 2, column 13`},
		{"more than one", `{"requests":[]} {}`, `body.syntax the body is not JSON`},
		{"no UTF-8", "{\"re\xdbquests\":[]}", `body.syntax the body is not valid UTF-8`},
		{"twice", `{"requests":[],"requests":[]}`, `body.duplicate "requests" stands twice in the body`},
		{"misspelled", `{"request":[]}`,
			`batch.invalid a batch is {"requests":[{"id":…,"method":…,"url":…},…]}, and "request" has no place in it like this`},
		{"no list", `{"requests":{}}`, `"requests" has no place in it like this`},
		{"empty", `{"requests":[]}`, `batch.size the batch has 0 requests; from 1 to 1000 are run`},
		{"too many", `{"requests":[` + strings.Repeat("1,", 1000) + `1]}`, `batch.size the batch has 1001 requests; from 1 to 1000 are run`},
		{"no requests", `{"requests":[7,"x",null,{"id":"1","id":"2"}]}`, `batch.invalid the batch has 4 mistakes; nothing was done|` +
			`batch.invalid requests/0: an object is expected, this is a number|batch.invalid requests/1: an object is expected, this is a string|` +
			`batch.invalid requests/2: an object is expected, this is null|batch.invalid requests/3: "id" stands twice in the body`},
		{"nothing said", `{"requests":[{}]}`, `batch.invalid the batch has 3 mistakes; nothing was done|` +
			`batch.invalid requests/0/id: each request has an id, which its answer has too|` +
			`batch.invalid requests/0/method: each request has a method|batch.invalid requests/0/url: each request has a url: a path below the ` +
			`window, such as port_calls/17`},
		{"wrong types", `{"requests":[{"id":1,"method":true,"url":[],"atomicityGroup":{},"dependsOn":"1","headers":[]}]}`, `batch.invalid the ` +
			`batch has 6 mistakes; nothing was done|batch.invalid requests/0/id: a string is expected, this is a number|` +
			`batch.invalid requests/0/method: a string is expected, this is a boolean|` +
			`batch.invalid requests/0/url: a string is expected, this is an array|batch.invalid requests/0/atomicityGroup: a string is expected, ` +
			`this is an object|batch.invalid requests/0/dependsOn: an array of ids is expected, such as ["1"]|` +
			`batch.invalid requests/0/headers: an object is expected, this is an array`},
		{"wrong types within", `{"requests":[{"id":"1",` + get + `,"dependsOn":[1],"headers":{"a":1,"b":"x","b":"y"}},{"id":"2",` + get +
			`,"headers":{"a":1}}]}`, `batch.invalid the batch has 3 mistakes; nothing was done|batch.invalid requests/0/dependsOn: an array of ` +
			`ids is expected, such as ["1"]|batch.invalid requests/0/headers: "b" stands twice in the body|` +
			`batch.invalid requests/1/headers/a: a string is expected, this is a number`},
		{"unknown members", `{"requests":[{"id":"1",` + get + `,"dependson":[],"if":7}]}`, `batch.invalid the batch has 2 mistakes; ` +
			`nothing was done|batch.invalid requests/0/dependson: a request has no such member; did you mean "dependsOn"?|` +
			`batch.invalid requests/0/if: a string is expected, this is a number`},
		{"no method", `{"requests":[{"id":"1","method":"FLY","url":"x"}]}`,
			`batch.invalid requests/0/method: "FLY" is none of GET, POST, PUT, PATCH, DELETE`},
		{"an id twice", `{"requests":[{"id":"1",` + get + `},{"id":"1",` + get + `}]}`, `batch.invalid requests/1/id: "1" stands twice`},
		{"an id and a group", `{"requests":[{"id":"1",` + get + `,"atomicityGroup":"g"},{"id":"g",` + get + `},{"id":"3",` + get +
			`,"atomicityGroup":"1"}]}`, `batch.invalid the batch has 2 mistakes; nothing was done|batch.invalid requests/1/id: "g" stands twice|` +
			`batch.invalid requests/2/atomicityGroup: the requests of a group stand side by side, under a name that no request has`},
		{"a group that is parted", `{"requests":[{"id":"1",` + get + `,"atomicityGroup":"g"},{"id":"2",` + get + `},{"id":"3",` + get +
			`,"atomicityGroup":"g"}]}`, `batch.invalid requests/2/atomicityGroup: the requests of a group stand side by side, ` +
			`under a name that no request has`},
		{"what comes after", `{"requests":[{"id":"1",` + get + `,"dependsOn":["1","2"],"atomicityGroup":"g"},{"id":"2",` + get +
			`,"dependsOn":["g"],"atomicityGroup":"g"}]}`, `batch.invalid the batch has 3 mistakes; nothing was done|` +
			`batch.invalid requests/0/dependsOn: "1" is none of the requests and groups before|` +
			`batch.invalid requests/0/dependsOn: "2" is none of the requests and groups before|` +
			`batch.invalid requests/1/dependsOn: "g" is none of the requests and groups before`},
	} {
		requests, err := payload.Batch([]byte(tt.body))
		got := ""
		if err != nil {
			got = asFault(err)
		} else {
			var parts []string
			for _, q := range requests {
				parts = append(parts, fmt.Sprintf("%s %s %s %s %v %v %s", q.ID, q.Method, q.URL, q.Group, q.DependsOn, q.Headers, q.Body))
			}
			got = strings.Join(parts, "; ")
		}
		if err == nil && got != tt.want || !strings.Contains(got, tt.want) {
			t.Errorf("%s: got\n%s\nwant\n%s", tt.name, got, tt.want)
		}
	}
}

// What a field is to be, as the one member of its body.
func TestParseField(t *testing.T) {
	t.Parallel()
	m, policy := coretest.Saltmere(t)
	r := m.Resource("port_calls")
	scope, err := policy.Scope(access.Caller{Operator: true})
	if err != nil {
		t.Fatal(err)
	}
	for body, want := range map[string]string{
		`{"value":"x"}`:                 `remarks=x`,
		`{"@context":"y","value":null}`: `remarks=null`,
		`{}`:                            `body.type the body of a field is {"value": …}`,
		`{"value":1,"value":2}`:         `body.duplicate "value" stands twice in the body`,
		`{"value":1,"name":2}`:          `field.unknown the body of a field is {"value": …}, and name has no place in it`,
		`6.25`:                          `body.type the body is no JSON object; send {"value": …}`,
		``:                              `body.missing the body is empty; send {"value": …}`,
	} {
		field, err := payload.ParseField([]byte(body), r.Field("remarks"))
		got := ""
		if err == nil {
			row, err := field.Read(r, window.Update, scope)
			if err != nil {
				t.Fatal(err)
			}
			got = written(row)
		} else {
			got = asFault(err)
		}
		if got != want {
			t.Errorf("%s: got %s, want %s", body, got, want)
		}
	}
}

// What a link names, whichever version of the standard its body is written in.
func TestLink(t *testing.T) {
	t.Parallel()
	for body, want := range map[string]string{
		`{"@id":"tugs/3"}`:                   "tugs/3",
		`{"@odata.id":"tugs(3)"}`:            "tugs(3)",
		`{"@context":"$ref","@id":"tugs/3"}`: "tugs/3",
		`{}`:                                 "",
		`{"@id":null}`:                       `value.invalid @id is a string: the path of a row`,
		`{"@id":""}`:                         `value.invalid @id is a string: the path of a row`,
		`{"@id":"a","@odata.id":"b"}`:        `body.duplicate the body names two rows; send one link at a time`,
		`{"id":3}`:                           `field.unknown the body of a link is {"@id":"…"}, and id has no place in it`,
		`"tugs/3"`:                           `body.type the body is no JSON object; send {"@id":"…"}`,
	} {
		got, err := payload.Link([]byte(body))
		if err != nil {
			got = asFault(err)
		}
		if got != want {
			t.Errorf("%s: got %s, want %s", body, got, want)
		}
	}
}
