package payload

import (
	"encoding/json"
	"fmt"
	"slices"
	"strings"

	"eagerwindow/internal/core/fault"
	"eagerwindow/internal/core/jsontext"
)

// Request is one request of a batch (JSON Format, 19.1).
type Request struct {
	ID, Method, URL, Group string
	DependsOn              []string
	Headers                map[string]string
	Body                   json.RawMessage
	Raw                    []byte // the body of a request of a multipart batch
	If                     string // a condition over the answers to requests before; "": none
}

// MostRequests is how many requests a batch may hold.
const MostRequests = 1000

// longestCondition is how many bytes the condition of a request may have.
const longestCondition = 1000

const batchForm = `{"requests":[{"id":…,"method":…,"url":…},…]}`

var requestMembers = []string{"id", "method", "url", "atomicityGroup", "dependsOn", "if", "headers", "body"}

// Batch reads the requests of a batch and refuses what can't be run in their order.
func Batch(body []byte) ([]*Request, error) {
	members, err := envelope(body, batchForm)
	if err != nil {
		return nil, err
	}
	var values []string
	for _, m := range members {
		list, ok := jsontext.Elements(m.value)
		switch {
		case m.name == "requests" && ok:
			values = list
		case !strings.HasPrefix(m.name, "@"):
			return nil, fault.New(fault.Invalid, "batch.invalid", "a batch is %s, and %q has no place in it like this", batchForm, m.name).On(m.name)
		}
	}
	if len(values) == 0 || len(values) > MostRequests {
		return nil, fault.New(fault.Invalid, "batch.size", "the batch has %d requests; from 1 to %d are run", len(values),
			MostRequests).On("requests")
	}
	b := &batchReader{known: map[string]bool{}, groups: map[string]bool{}}
	requests := make([]*Request, len(values))
	for i, v := range values {
		b.at = fmt.Sprintf("requests/%d", i)
		requests[i] = b.request(v)
	}
	return requests, b.mistakes.Fault(fault.Invalid, "batch.invalid",
		fmt.Sprintf("the batch has %d mistakes; nothing was done", len(b.mistakes)))
}

// Ordered refuses requests that can't be run in their order. Those of a multipart batch refer to one another by Content-ID alone.
func Ordered(requests []*Request) ([]*Request, error) {
	if len(requests) == 0 || len(requests) > MostRequests {
		return nil, fault.New(fault.Invalid, "batch.size", "the batch has %d requests; from 1 to %d are run", len(requests), MostRequests)
	}
	b := &batchReader{known: map[string]bool{}, groups: map[string]bool{}}
	for i, q := range requests {
		if q.Group != b.group { // in version 4.0, a Content-ID is one of its group alone
			b.known = map[string]bool{}
		}
		b.at = fmt.Sprintf("part/%d", i)
		b.order(q)
	}
	return requests, b.mistakes.Fault(fault.Invalid, "batch.invalid",
		fmt.Sprintf("the batch has %d mistakes; nothing was done", len(b.mistakes)))
}

// batchReader reads requests one after the other: they may refer to those before.
type batchReader struct {
	at            string
	known, groups map[string]bool
	group         string // of the request before
	mistakes      fault.List
}

func (b *batchReader) addError(member, format string, args ...any) {
	at := strings.TrimSuffix(b.at+"/"+member, "/")
	b.mistakes.Add("batch.invalid", at, 0, 0, at+": "+format, args...)
}

func (b *batchReader) request(text string) *Request {
	q := &Request{}
	if text[0] != '{' {
		b.addError("", "an object is expected, this is %s", kindOf(text))
		return q
	}
	members, err := membersOf(text, nil)
	if f, ok := fault.From(err); ok {
		b.addError("", "%s", f.Message)
		return q
	}
	for _, m := range members {
		switch {
		case !slices.Contains(requestMembers, m.name) && !strings.HasPrefix(m.name, "@"):
			b.addError(m.name, "a request has no such member%s", fault.Suggest(m.name, requestMembers))
		}
	}
	q.ID = b.text(members, "id", "each request has an id, which its answer has too")
	q.Method = strings.ToUpper(b.text(members, "method", "each request has a method"))
	q.URL = b.text(members, "url", "each request has a url: a path below the window, such as port_calls/17")
	q.Group = b.text(members, "atomicityGroup", "")
	q.DependsOn = b.ids(members)
	if q.If = b.text(members, "if", ""); len(q.If) > longestCondition {
		b.addError("if", "a condition has at most %d bytes, this one %d", longestCondition, len(q.If))
	}
	q.Headers = b.headers(members)
	if body, given := valueOf(members, "body"); given {
		q.Body = json.RawMessage(body)
	}
	b.order(q)
	return q
}

// order refuses a request that can't be run in its place.
func (b *batchReader) order(q *Request) {
	if q.ID != "" && (b.known[q.ID] || b.groups[q.ID]) {
		b.addError("id", "%q stands twice", q.ID)
	}
	if q.Method != "" && !slices.Contains([]string{"GET", "POST", "PUT", "PATCH", "DELETE"}, q.Method) {
		b.addError("method", "%q is none of GET, POST, PUT, PATCH, DELETE", q.Method)
	}
	if q.Group != "" && q.Group != b.group {
		if b.groups[q.Group] || b.known[q.Group] {
			b.addError("atomicityGroup", "the requests of a group stand side by side, under a name that no request has")
		}
		b.groups[q.Group] = true
	}
	for _, id := range q.DependsOn {
		if !b.known[id] && (!b.groups[id] || id == q.Group) {
			b.addError("dependsOn", "%q is none of the requests and groups before", id)
		}
	}
	b.known[q.ID], b.group = true, q.Group
}

func (b *batchReader) text(members []member, name, needed string) string {
	value, given := valueOf(members, name)
	s, ok := jsontext.Unquote(value)
	switch {
	case given && !ok:
		b.addError(name, "a string is expected, this is %s", kindOf(value))
	case s == "" && needed != "":
		b.addError(name, "%s", needed)
	}
	return s
}

func (b *batchReader) ids(members []member) (ids []string) {
	value, given := valueOf(members, "dependsOn")
	if !given {
		return nil
	}
	list, ok := jsontext.Elements(value)
	for _, v := range list {
		var id string
		if id, ok = jsontext.Unquote(v); !ok {
			break
		}
		ids = append(ids, id)
	}
	if !ok {
		b.addError("dependsOn", "an array of ids is expected, such as [\"1\"]")
	}
	return ids
}

func (b *batchReader) headers(members []member) map[string]string {
	value, given := valueOf(members, "headers")
	if !given {
		return nil
	}
	if value[0] != '{' {
		b.addError("headers", "an object is expected, this is %s", kindOf(value))
		return nil
	}
	list, err := membersOf(value, nil)
	if f, ok := fault.From(err); ok {
		b.addError("headers", "%s", f.Message)
	}
	headers := make(map[string]string, len(list))
	for _, m := range list {
		var ok bool
		if headers[m.name], ok = jsontext.Unquote(m.value); !ok {
			b.addError("headers/"+m.name, "a string is expected, this is %s", kindOf(m.value))
		}
	}
	return headers
}

// valueOf finds a member that is given and not null.
func valueOf(members []member, name string) (value string, given bool) {
	i := slices.IndexFunc(members, func(m member) bool { return m.name == name && m.value != "null" })
	if i < 0 {
		return "null", false
	}
	return members[i].value, true
}
