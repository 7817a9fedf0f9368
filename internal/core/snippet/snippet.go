// Package snippet writes a request as a program that sends it: for a shell, in JavaScript, Go and Python. Each runs as it stands; the token
// is read from the environment variable TOKEN.
package snippet

import (
	"net/url"
	"strconv"
	"strings"
)

// Request is what is to be sent.
type Request struct {
	Method  string
	URL     string // without a query
	Query   []Pair
	Headers []Pair // without that of the token
	Body    string // JSON
	Token   bool   // send the token
}

// Pair is a name with its value.
type Pair struct{ Name, Value string }

// Language is a way of writing requests.
type Language struct {
	Name  string
	Write func(Request) string
}

// Languages are those that requests are written in.
var Languages = []Language{{"curl", Curl}, {"HTTPie", HTTPie}, {"JavaScript", JavaScript}, {"Go", Go}, {"Python", Python}}

// readable leaves in a query what may be there as it is (RFC 3986, 3.4), and writes blanks so that every server reads them.
var readable = strings.NewReplacer("+", "%20", "%2C", ",", "%2F", "/", "%3A", ":", "%28", "(", "%29", ")", "%24", "$", "%3B", ";", "%40",
	"@")

// Address is the URL with its query.
func (r Request) Address() string {
	if len(r.Query) == 0 {
		return r.URL
	}
	parts := make([]string, len(r.Query))
	for i, p := range r.Query {
		parts[i] = p.Name + "=" + readable.Replace(url.QueryEscape(p.Value))
	}
	return r.URL + "?" + strings.Join(parts, "&")
}

// headers are all that are sent, but for that of the token.
func (r Request) headers() []Pair {
	if r.Body == "" {
		return r.Headers
	}
	for _, h := range r.Headers {
		if strings.EqualFold(h.Name, "Content-Type") {
			return r.Headers
		}
	}
	return append([]Pair{{"Content-Type", "application/json"}}, r.Headers...)
}

// shell quotes a text for a POSIX shell.
func shell(text string) string { return "'" + strings.ReplaceAll(text, "'", `'\''`) + "'" }

// Curl is a command for a shell.
func Curl(r Request) string {
	var out strings.Builder
	out.WriteString("curl ")
	if len(r.Query) > 0 && r.Body == "" && r.Method == "GET" {
		out.WriteString("-G ")
	} else if r.Method != "GET" {
		out.WriteString("-X " + r.Method + " ")
	}
	at := r.URL
	if r.Body != "" || r.Method != "GET" {
		at = r.Address()
	}
	out.WriteString(shell(at))
	if r.Token {
		out.WriteString(" \\\n  -H \"Authorization: Bearer $TOKEN\"")
	}
	for _, h := range r.headers() {
		out.WriteString(" \\\n  -H " + shell(h.Name+": "+h.Value))
	}
	if r.Body == "" && r.Method == "GET" {
		for _, q := range r.Query {
			out.WriteString(" \\\n  --data-urlencode " + shell(q.Name+"="+q.Value))
		}
	}
	if r.Body != "" {
		out.WriteString(" \\\n  --data " + shell(r.Body))
	}
	return out.String() + "\n"
}

// HTTPie is a command of that program.
func HTTPie(r Request) string {
	var out strings.Builder
	if r.Body != "" {
		out.WriteString("printf '%s' " + shell(r.Body) + " |\n  ")
	}
	out.WriteString("http " + r.Method + " " + shell(r.URL))
	if r.Token {
		out.WriteString(" \\\n  \"Authorization: Bearer $TOKEN\"")
	}
	for _, h := range r.headers() {
		out.WriteString(" \\\n  " + shell(h.Name+":"+h.Value))
	}
	for _, q := range r.Query {
		out.WriteString(" \\\n  " + shell(q.Name+"=="+q.Value))
	}
	return out.String() + "\n"
}

// quoted is a text as JSON has it, which JavaScript and Python read the same.
func quoted(text string) string {
	q := strconv.Quote(text)
	return strings.NewReplacer(`\a`, `\u0007`, `\v`, `\u000b`, `\x`, `\u00`, "\u2028", `\u2028`).Replace(q)
}

// JavaScript is a module for Node.js, or a browser's console with TOKEN set.
func JavaScript(r Request) string {
	var options []string
	if r.Method != "GET" {
		options = append(options, "  method: "+quoted(r.Method)+",\n")
	}
	var headers []string
	if r.Token {
		headers = append(headers, "    Authorization: `Bearer ${process.env.TOKEN}`,\n")
	}
	for _, h := range r.headers() {
		headers = append(headers, "    "+quoted(h.Name)+": "+quoted(h.Value)+",\n")
	}
	if headers != nil {
		options = append(options, "  headers: {\n"+strings.Join(headers, "")+"  },\n")
	}
	if r.Body != "" {
		options = append(options, "  body: "+quoted(r.Body)+",\n")
	}
	call, query := quoted(r.URL), ""
	if len(r.Query) > 0 {
		query = "const query = new URLSearchParams({\n"
		for _, q := range r.Query {
			query += "  " + quoted(q.Name) + ": " + quoted(q.Value) + ",\n"
		}
		query += "});\n"
		call = "`" + strings.NewReplacer("`", "\\`", "\\", "\\\\", "${", "\\${").Replace(r.URL) + "?${query}`"
	}
	if options != nil {
		call += ", {\n" + strings.Join(options, "") + "}"
	}
	return query + "const answer = await fetch(" + call + ");\nconsole.log(answer.status, await answer.text());\n"
}

// Go is a program.
func Go(r Request) string {
	imports := []string{"fmt", "io", "log", "net/http"}
	if r.Token {
		imports = append(imports, "os")
	}
	body := "nil"
	if r.Body != "" {
		imports, body = append(imports, "strings"), "strings.NewReader("+strconv.Quote(r.Body)+")"
	}
	at := strconv.Quote(r.URL)
	var query string
	if len(r.Query) > 0 {
		imports = append(imports[:4:4], append([]string{"net/url"}, imports[4:]...)...)
		query, at = "\tquery := url.Values{\n", at+"+\"?\"+query.Encode()"
		longest := 0
		for _, q := range r.Query {
			longest = max(longest, len(strconv.Quote(q.Name)))
		}
		for _, q := range r.Query {
			name := strconv.Quote(q.Name) + ":"
			query += "\t\t" + name + strings.Repeat(" ", longest+2-len(name)) + "{" + strconv.Quote(q.Value) + "},\n"
		}
		query += "\t}\n"
	}
	out := "package main\n\nimport (\n"
	for _, name := range imports {
		out += "\t\"" + name + "\"\n"
	}
	out += ")\n\nfunc main() {\n" + query + "\treq, err := http.NewRequest(" + strconv.Quote(r.Method) + ", " + at + ", " + body + ")\n" +
		"\tif err != nil {\n\t\tlog.Fatal(err)\n\t}\n"
	if r.Token {
		out += "\treq.Header.Set(\"Authorization\", \"Bearer \"+os.Getenv(\"TOKEN\"))\n"
	}
	for _, h := range r.headers() {
		out += "\treq.Header.Set(" + strconv.Quote(h.Name) + ", " + strconv.Quote(h.Value) + ")\n"
	}
	return out + "\tres, err := http.DefaultClient.Do(req)\n\tif err != nil {\n\t\tlog.Fatal(err)\n\t}\n\tdefer res.Body.Close()\n" +
		"\ttext, err := io.ReadAll(res.Body)\n\tif err != nil {\n\t\tlog.Fatal(err)\n\t}\n\tfmt.Println(res.StatusCode, string(text))\n}\n"
}

// Python is a program for its standard library alone.
func Python(r Request) string {
	imports := ""
	if r.Token {
		imports = "import os\n"
	}
	at, query := quoted(r.URL), ""
	if len(r.Query) > 0 {
		imports += "import urllib.parse\n"
		query = "query = urllib.parse.urlencode({\n"
		for _, q := range r.Query {
			query += "    " + quoted(q.Name) + ": " + quoted(q.Value) + ",\n"
		}
		query += "})\n"
		at += ` + "?" + query`
	}
	out := imports + "import urllib.error\nimport urllib.request\n\n" + query + "request = urllib.request.Request(\n    " + at + ",\n"
	if r.Method != "GET" {
		out += "    method=" + quoted(r.Method) + ",\n"
	}
	if r.Body != "" {
		out += "    data=" + quoted(r.Body) + ".encode(),\n"
	}
	var headers string
	if r.Token {
		headers += "        \"Authorization\": \"Bearer \" + os.environ[\"TOKEN\"],\n"
	}
	for _, h := range r.headers() {
		headers += "        " + quoted(h.Name) + ": " + quoted(h.Value) + ",\n"
	}
	if headers != "" {
		out += "    headers={\n" + headers + "    },\n"
	}
	return out + ")\ntry:\n    with urllib.request.urlopen(request) as answer:\n        print(answer.status, answer.read().decode())\n" +
		"except urllib.error.HTTPError as refusal:\n    print(refusal.code, refusal.read().decode())\n"
}
