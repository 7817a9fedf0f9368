package server

import (
	"bytes"
	"embed"
	"html/template"
	"io/fs"
	"net/http"
	"net/url"
	"regexp"
	"strings"
	texts "text/template"

	"eagerwindow/internal/core/access"
	"eagerwindow/internal/core/describe"
	"eagerwindow/internal/core/jsontree"
)

//go:embed reference
var referenceFiles embed.FS

var (
	referencePage = template.Must(template.New("page.html").Funcs(template.FuncMap{"text": inline}).ParseFS(referenceFiles,
		"reference/page.html"))
	referenceStyle = texts.Must(texts.ParseFS(referenceFiles, "reference/page.css"))
)

// referencePolicy lets the page use what stands beside it, and ask this service.
const referencePolicy = "default-src 'none'; script-src 'self'; style-src 'self' 'unsafe-inline'; img-src 'self'; font-src 'self'; " +
	"connect-src 'self'; base-uri 'none'; form-action 'self'; frame-ancestors 'none'"

// reference answers with the page that people read: all of a description, as the asker's roles or one of them see it. It needs no script to
// be read.
func (s *Server) reference(w http.ResponseWriter, r *http.Request, d described, caller access.Caller) error {
	h := w.Header()
	h.Set("Content-Security-Policy", referencePolicy)
	h.Set("Referrer-Policy", "same-origin")
	return s.sendDescription(w, r, d, caller, answerForm{"page " + r.URL.Path, "text/html; charset=utf-8", ""},
		func(scope *access.Scope, place describe.Place) ([]byte, error) {
			doc, err := describe.Describe(d.policy, scope, place, "")
			if err != nil {
				return nil, err
			}
			whole := 0
			if scope.Name != "" && d.mayReadAll(caller) {
				all, err := d.policy.Scope(access.Caller{Operator: true})
				if err != nil {
					return nil, err
				}
				everything, err := describe.Describe(d.policy, all, place, "")
				if err != nil {
					return nil, err
				}
				whole = countOperations(everything)
			}
			page := newPage(doc, place, r.URL.EscapedPath())
			page.Release, page.Live, page.Of, page.Resource = d.release, d.live > 0, whole, place.Resource
			if len(page.Tags) > maxOnePage && place.Resource == "" {
				page.Index = true
			}
			page.choose(d.readable(caller), r.URL.Query().Get("role"), d.mayReadAll(caller))
			var out bytes.Buffer
			err = referencePage.Execute(&out, page)
			return out.Bytes(), err
		})
}

// maxOnePage is how many resources stand on one page; more have a page each, and a list of them.
const maxOnePage = 80

// referenceFile serves what the page needs besides itself.
func (s *Server) referenceFile(w http.ResponseWriter, r *http.Request) {
	w.Header().Set("Cache-Control", "public, max-age=3600")
	if strings.HasSuffix(r.URL.Path, ".js") {
		http.ServeFileFS(w, r, referenceFiles, "reference/page.js")
		return
	}
	w.Header().Set("Content-Type", "text/css; charset=utf-8")
	_ = referenceStyle.Execute(w, map[string]string{"Sans": s.font("instrument-sans-latin-wght-*"),
		"Mono": s.font("jetbrains-mono-latin-wght-*")})
}

// font is the address of a font that the console has; a page without it looks as the reader's system does.
func (s *Server) font(pattern string) string {
	if s.console == nil {
		return "/none"
	}
	if found, err := fs.Glob(s.console, "assets/"+pattern+".woff2"); err == nil && len(found) > 0 {
		return "/" + found[0]
	}
	return "/none"
}

var inCode = regexp.MustCompile("`([^`]*)`")

// inline is a text with what stands between backquotes as code.
func inline(text string) template.HTML {
	return template.HTML(inCode.ReplaceAllString(template.HTMLEscapeString(text), "<code>$1</code>"))
}

func countOperations(doc *jsontree.Object) (n int) {
	for _, path := range doc.Object("paths").Members {
		for _, m := range path.Value.(*jsontree.Object).Members {
			if _, is := m.Value.(*jsontree.Object); is {
				n++
			}
		}
	}
	return n
}

// choose sets the roles that the reader can choose from, "" for all that it may know.
func (p *page) choose(roles []string, chosen string, all bool) {
	if all {
		p.Roles = append(p.Roles, pageRole{"", "everyone", chosen == ""})
	} else {
		p.Roles = append(p.Roles, pageRole{"", "you", chosen == ""})
	}
	for _, name := range roles {
		p.Roles = append(p.Roles, pageRole{name, name, name == chosen})
	}
	if chosen != "" {
		p.Role = pageRole{Name: chosen}
	}
}

// Query is the role as a query.
func (r pageRole) Query() template.URL {
	if r.Name == "" {
		return ""
	}
	return template.URL("?role=" + url.QueryEscape(r.Name))
}

// Query is that of the page of one resource.
func (t pageTag) Query(role pageRole) template.URL {
	q := url.Values{"resource": {t.Name}}
	if role.Name != "" {
		q.Set("role", role.Name)
	}
	return template.URL("?" + q.Encode())
}
