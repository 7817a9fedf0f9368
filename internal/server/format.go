package server

import (
	"mime"
	"net/http"
	"net/url"
	"slices"
	"strconv"
	"strings"

	"eagerwindow/internal/core/fault"
	"eagerwindow/internal/core/query"
	"eagerwindow/internal/encode"
)

// format is how an answer is to be written: what the caller accepts, or asks for by format=.
type format struct {
	encode.Format
}

// media are the types of answers, the first where the caller has no wish.
var media = []struct {
	name, short string
	kind        encode.Kind
}{
	{"application/json", "json", encode.JSON}, {"application/x-ndjson", "ndjson", encode.NDJSON},
	{"text/csv", "csv", encode.CSV}, {"application/xml", "xml", encode.XML},
}

// envelope is what stands around the rows of an answer.
func (f format) envelope(context string) encode.Envelope {
	return encode.Envelope{Format: f.Format, URL: context}
}

// contentType is the type of the answer.
func (f format) contentType() string {
	switch f.Kind {
	case encode.NDJSON:
		return "application/x-ndjson"
	case encode.CSV:
		return "text/csv; charset=utf-8; header=present"
	case encode.XML:
		return "application/xml; charset=utf-8"
	}
	out := "application/json;metadata="
	if f.V40 {
		out = "application/json;odata.metadata="
	}
	if f.Strings {
		return out + f.Metadata.String() + ";IEEE754Compatible=true"
	}
	return out + f.Metadata.String()
}

// negotiateFormat settles the format of an answer, and says the version of the standard that it speaks.
func negotiateFormat(w http.ResponseWriter, r *http.Request, options string) (format, error) {
	f, err := negotiate(r, options)
	w.Header()["OData-Version"] = f.version()
	return f, err
}

// negotiateJSON is for requests that are answered in no other format.
func negotiateJSON(w http.ResponseWriter, r *http.Request) (format, error) {
	f, err := negotiateFormat(w, r, r.URL.RawQuery)
	if err == nil && f.Kind != encode.JSON {
		err = fault.New(fault.NotAcceptable, "format.unknown",
			"a write is answered in JSON; accept application/json, or leave format and Accept out. Nothing was changed").On("format")
	}
	return f, err
}

func (f format) version() []string {
	if f.V40 {
		return version40
	}
	return version
}

// negotiate settles the format of an answer from format=, else from Accept (RFC 9110, 12.5.1), and the version from
// OData-MaxVersion (Protocol, 8.2.7).
func negotiate(r *http.Request, options string) (f format, err error) {
	if f.V40, err = maxVersion(r); err != nil {
		return f, err
	}
	if asked, given := formatOption(options); given {
		return f, f.choose(asked)
	}
	accept := r.Header["Accept"]
	if accept == nil || len(accept) == 1 && (accept[0] == "*/*" || accept[0] == "application/json") || bare(r) {
		return f, nil
	}
	return f, f.accept(accept)
}

// maxVersion reports whether the answer must be one of version 4.0.
func maxVersion(r *http.Request) (v40 bool, err error) {
	given := r.Header["Odata-Maxversion"] // spelled as net/http does
	if given == nil || given[0] == "" {
		return false, nil
	}
	v, err := strconv.ParseFloat(given[0], 64)
	if err != nil || v < 4 {
		return false, fault.New(fault.Invalid, "version.unknown", "OData-MaxVersion is %q; this service speaks 4.0 and 4.01",
			given[0]).On("OData-MaxVersion")
	}
	return v < 4.01, nil
}

// bare reports whether a path leads to a bare value, which has a type of its own whatever the caller accepts (Protocol, 11.2.4.1, 11.2.10).
func bare(r *http.Request) bool {
	return strings.HasSuffix(r.URL.Path, "/$count") || strings.HasSuffix(r.URL.Path, "/$value")
}

// accept takes the ranges of Accept: the type that they want most, and of JSON the parameters of the range that wants it most.
func (f *format) accept(lines []string) error {
	var ranges []acceptable
	var unknown error // parameters that are not known
	for _, line := range lines {
		for _, a := range acceptables(line) {
			if err := new(format).parameters(a.params); err != nil {
				unknown = err
				continue
			}
			ranges = append(ranges, a)
		}
	}
	best, at := 0.0, -1
	for i, m := range media {
		if q := quality(ranges, m.name); q > best {
			best, at = q, i
		}
	}
	if at < 0 && unknown != nil {
		return unknown
	}
	if at < 0 {
		return notAcceptable(strings.Join(lines, ", "))
	}
	pages := slices.ContainsFunc(ranges, func(a acceptable) bool { return a.name == "text/html" })
	if pages && quality(ranges, media[0].name) > 0 {
		at = 0 // a browser that takes XML means pages
	}
	f.Kind = media[at].kind
	params, most := map[string]string(nil), 0.0
	for _, a := range ranges {
		if exact := a.name == media[at].name || a.name == "text/xml" && f.Kind == encode.XML; exact && a.q > most {
			params, most = a.params, a.q
		}
	}
	return f.parameters(params)
}

func notAcceptable(asked string) error {
	names := make([]string, len(media))
	for i, m := range media {
		names[i] = m.name + " (" + m.short + ")"
	}
	return fault.New(fault.NotAcceptable, "format.unknown", "%q is no format that is written here; there is %s", asked,
		strings.Join(names, ", ")).On("format")
}

// formatOption finds format among the options.
func formatOption(options string) (value string, given bool) {
	if !strings.Contains(options, "ormat=") && !strings.Contains(options, "ORMAT=") {
		return "", false
	}
	for pair := range strings.SplitSeq(options, "&") {
		name, value, _ := strings.Cut(pair, "=")
		if name, err := url.QueryUnescape(name); err == nil && strings.EqualFold(strings.TrimPrefix(name, "$"), "format") {
			// A plus sign belongs to types such as application/openapi+json and is no blank here.
			text, _ := url.PathUnescape(value)
			return text, true
		}
	}
	return "", false
}

// choose takes the value of format=: a short name, or a media type with parameters.
func (f *format) choose(asked string) error {
	name, params, err := mime.ParseMediaType(asked)
	if err != nil {
		return notAcceptable(asked)
	}
	for _, m := range media {
		if name == m.short || name == m.name {
			f.Kind = m.kind
			return f.parameters(params)
		}
	}
	return notAcceptable(asked)
}

// parameters takes those of application/json; any other format has none.
func (f *format) parameters(params map[string]string) error {
	for name, value := range params {
		switch strings.TrimPrefix(strings.ToLower(name), "odata.") {
		case "metadata":
			all := []query.Metadata{query.None, query.Minimal, query.Full}
			at := slices.IndexFunc(all, func(m query.Metadata) bool { return m.String() == strings.ToLower(value) })
			if at < 0 {
				return fault.New(fault.NotAcceptable, "format.metadata", "metadata is none, minimal or full, not %q", value).On("metadata")
			}
			f.Metadata = all[at]
		case "ieee754compatible":
			f.Strings = strings.EqualFold(value, "true")
		}
	}
	if f.Kind != encode.JSON && f.Kind != encode.NDJSON {
		f.Metadata, f.Strings = query.None, false
	}
	return nil
}

// acceptable is one range of Accept.
type acceptable struct {
	name   string
	params map[string]string
	q      float64
}

func acceptables(line string) []acceptable {
	var list []acceptable
	for part := range strings.SplitSeq(line, ",") {
		name, params, err := mime.ParseMediaType(part)
		if err != nil {
			continue
		}
		a := acceptable{name: name, params: params, q: 1}
		if q, given := params["q"]; given {
			if a.q, err = strconv.ParseFloat(q, 64); err != nil || a.q < 0 || a.q > 1 {
				a.q = 0
			}
		}
		list = append(list, a)
	}
	return list
}

// quality is how much a type is wanted: the most specific range says.
func quality(ranges []acceptable, name string) float64 {
	kind, _, _ := strings.Cut(name, "/")
	best, q := 0, 0.0
	for _, a := range ranges {
		specific := 0
		switch a.name {
		case name:
			specific = 3
		case kind + "/*":
			specific = 2
		case "*/*":
			specific = 1
		case "text/xml":
			if name == "application/xml" {
				specific = 3
			}
		case "application/ndjson", "application/jsonl":
			if name == "application/x-ndjson" {
				specific = 3
			}
		}
		if specific > best || specific == best && specific > 0 && a.q > q {
			best, q = specific, a.q
		}
	}
	return q
}
