package jsontree_test

import (
	"encoding/json"
	"fmt"
	"reflect"
	"strings"
	"testing"

	"eagerwindow/internal/core/jsontree"
)

func Example() {
	tug := jsontree.New("name", "Bram", "note", nil, "pull", json.Number("54.50"), "tags", jsontree.Strings("a", "b"))
	tug.Set("name", "Petra")
	fmt.Println(string(jsontree.Append(nil, tug, false)))
	// Output: {"name":"Petra","pull":54.50,"tags":["a","b"]}
}

// What is written as JSON or YAML is read back as it was, in its order.
func TestThereAndBack(t *testing.T) {
	t.Parallel()
	for _, text := range []string{
		`{"b":1,"a":[true,false,null,"x"],"c":{},"d":[],"e":{"f":[[1,2],[]]}}`,
		`{"texts":["","yes","null","1","1.5","~","2026-01-01","a: b","- a","#x","line\nline","tab\t","quote\"","é","\u0001","<b>&"]}`,
		`{"numbers":[0,-1,1.50,123456789012345678901234567890,0.1,1e5,-2.5e-3]}`,
		`[]`, `"text"`, `null`, `true`, `{"@id":"tugs/3","a/b":{"~":1}}`,
	} {
		v, err := jsontree.Parse([]byte(text))
		if err != nil {
			t.Fatalf("%s: %v", text, err)
		}
		var got, want any
		for name, written := range map[string][]byte{"JSON": jsontree.Append(nil, v, false), "indented": jsontree.Append(nil, v, true)} {
			if err := json.Unmarshal(written, &got); err != nil {
				t.Fatalf("%s: %v\n%s", name, err, written)
			}
			if err := json.Unmarshal([]byte(text), &want); err != nil {
				t.Fatal(err)
			}
			if !reflect.DeepEqual(got, want) {
				t.Errorf("%s: %s, want %s", name, written, text)
			}
		}
		asYAML, err := jsontree.AppendYAML(v)
		if err != nil {
			t.Fatal(err)
		}
		back, err := jsontree.Parse(asYAML)
		if err != nil || string(jsontree.Append(nil, back, false)) != string(jsontree.Append(nil, v, false)) {
			t.Errorf("YAML: %s %v\n%s", jsontree.Append(nil, back, false), err, asYAML)
		}
	}
}

func TestObject(t *testing.T) {
	t.Parallel()
	o := jsontree.New("z", 1, "a", jsontree.New("deep", jsontree.List{"x"}))
	copied := jsontree.Clone(o).(*jsontree.Object)
	copied.Object("a").Set("deep", "other")
	copied.Sort()
	if got := string(jsontree.Append(nil, copied, false)); got != `{"a":{"deep":"other"},"z":1}` {
		t.Errorf("the copy: %s", got)
	}
	if o.Object("a").List("deep")[0] != "x" || o.Delete("z") != 1 || o.Has("z") || o.Delete("z") != nil || o.Text("a") != "" {
		t.Errorf("the original: %s", jsontree.Append(nil, o, false))
	}
	var none *jsontree.Object
	if none.Get("x") != nil || none.Object("x").List("y") != nil || none.Has("x") {
		t.Error("what is not there has members")
	}
	for text, want := range map[string]string{"a: 0x1F": `{"a":31}`, "a: .inf": `{"a":".inf"}`, "a: &x [1]\nb: *x": `{"a":[1],"b":[1]}`,
		"a: 2026-01-01": `{"a":"2026-01-01"}`,
		"a: !!str 1":    `{"a":"1"}`, "{a: 1, a: 2}": `{"a":2}`} {
		v, err := jsontree.Parse([]byte(text))
		if got := string(jsontree.Append(nil, v, false)); err != nil || got != want {
			t.Errorf("%s: %s %v, want %s", text, got, err, want)
		}
	}
}

// Each object is visited once, the outer ones first, wherever it stands.
func TestWalk(t *testing.T) {
	inner, other := jsontree.New("name", "inner"), jsontree.New("name", "other")
	outer := jsontree.New("name", "outer", "one", inner, "many", jsontree.List{"text", jsontree.List{other}})
	var names []string
	jsontree.Walk(outer, func(o *jsontree.Object) { names = append(names, o.Text("name")) })
	if got := strings.Join(names, " "); got != "outer inner other" {
		t.Errorf("visited %s", got)
	}
}
