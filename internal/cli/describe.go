package cli

import (
	"bytes"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"unicode"

	"github.com/spf13/cobra"

	"eagerwindow/internal/client"
	"eagerwindow/internal/core/describe"
	"eagerwindow/internal/core/generate"
	"eagerwindow/internal/core/jsontree"
)

// describeForms are what a description is written as.
var describeForms = []string{"json", "yaml", "csdl", "schema", "typescript", "go"}

func (a *app) describe() *cobra.Command {
	c := &cobra.Command{
		Use:   "describe WINDOW",
		Short: "Print a window's description: OpenAPI, CSDL, JSON Schema, or a typed client",
		Long: `Print the description of what a window serves now, of its draft, or of an earlier release; whole, or as a role sees it.

-o json and yaml are OpenAPI, of the version that --openapi says; csdl is the metadata of OData; schema is the JSON Schema of the rows
of --resource; typescript are types for openapi-fetch; go is a package with a client. --check prints what is wrong with the
description instead: what the official schema of its version of OpenAPI refuses, and what linters complain of; the exit status is 1
then.`,
		Example: `  eager describe saltmere > saltmere.openapi.json
  eager describe saltmere --as agent -o yaml
  eager describe saltmere --release 1 --openapi 3.0
  eager describe saltmere --resource vessels -o schema
  eager describe saltmere --as agent -o typescript > saltmere.ts
  eager describe saltmere --check`,
		Args: exactly("WINDOW"),
	}
	q := described{}
	c.Flags().StringVar(&q.role, "as", "", "only what this role may do")
	c.Flags().BoolVar(&q.draft, "draft", false, "the draft instead of the live release")
	c.Flags().IntVar(&q.release, "release", 0, "an earlier release instead of the live one")
	c.Flags().StringVar(&q.version, "openapi", "3.1", "the version of OpenAPI: "+strings.Join(describe.Versions, ", "))
	c.Flags().StringVar(&q.resource, "resource", "", "only this resource")
	c.Flags().BoolVar(&q.formats, "formats", false, "all formats of answers, not JSON alone")
	c.Flags().BoolVar(&q.check, "check", false, "print what is wrong with the description instead")
	c.Flags().StringVarP(&q.output, "output", "o", "json", strings.Join(describeForms, ", "))
	c.MarkFlagsMutuallyExclusive("release", "draft")
	c.RunE = func(c *cobra.Command, args []string) error {
		switch {
		case !slices.Contains(describeForms, q.output):
			return usage("-o is one of %s, not %q", strings.Join(describeForms, ", "), q.output)
		case !slices.Contains(describe.Versions, q.version):
			return usage("--openapi is one of %s, not %q", strings.Join(describe.Versions, ", "), q.version)
		case q.output == "schema" && q.resource == "":
			return usage("-o schema is of one resource: add --resource")
		}
		text, err := a.fetch(c, q.path(args[0]))
		if err != nil {
			return err
		}
		switch {
		case q.check:
			return a.checkDescription(text, args[0])
		case q.generates():
			return a.generate(text, q.output, args[0])
		case q.output == "json":
			var laidOut bytes.Buffer
			if err := json.Indent(&laidOut, text, "", "  "); err != nil {
				return fmt.Errorf("the description can't be read: %w", err)
			}
			text = laidOut.Bytes()
		}
		_, err = a.Out.Write(text)
		return err
	}
	return c
}

// described says of what a description is, and in which form.
type described struct {
	role, resource, version, output string
	draft, formats, check           bool
	release                         int
}

// generates reports whether a client is made of the description.
func (q described) generates() bool { return q.output == "typescript" || q.output == "go" }

// path is where the service has it.
func (q described) path(window string) string {
	query := url.Values{}
	for name, value := range map[string]string{"role": q.role, "resource": q.resource} {
		if value != "" {
			query.Set(name, value)
		}
	}
	if q.formats {
		query.Set("formats", "all")
	}
	if q.version != describe.Versions[0] && !q.generates() {
		query.Set("openapi", q.version)
	}
	at := "/describe/" + url.PathEscape(window)
	switch {
	case q.draft:
		at += "/draft"
	case q.release != 0:
		at += "/" + strconv.Itoa(q.release)
	}
	file := "/openapi.json"
	switch {
	case q.check:
	case q.output == "yaml":
		file = "/openapi.yaml"
	case q.output == "csdl":
		file = "/metadata.xml"
	case q.output == "schema":
		file = "/schemas/" + url.PathEscape(q.resource) + ".json"
	}
	if len(query) > 0 {
		file += "?" + query.Encode()
	}
	return at + file
}

// fetch reads what the service answers at a path.
func (a *app) fetch(c *cobra.Command, path string) ([]byte, error) {
	res, err := a.service().Send(c.Context(), client.Request{Method: http.MethodGet, Path: path})
	if err != nil {
		return nil, err
	}
	defer res.Body.Close()
	if err := client.Check(res); err != nil {
		return nil, err
	}
	return io.ReadAll(res.Body)
}

func (a *app) checkDescription(text []byte, name string) error {
	doc, err := readDescription(text)
	if err != nil {
		return err
	}
	wrong, err := describe.Check(doc)
	if err != nil {
		return err
	}
	for _, w := range wrong {
		fmt.Fprintln(a.Out, w)
	}
	if len(wrong) == 0 {
		fmt.Fprintf(a.Out, "The description of %s is valid OpenAPI %s, and linters have nothing to complain of.\n", name,
			doc.Text("openapi")+doc.Text("swagger"))
		return nil
	}
	return errFound
}

func readDescription(text []byte) (*jsontree.Object, error) {
	v, err := jsontree.Parse(text)
	doc, is := v.(*jsontree.Object)
	if err == nil && !is {
		err = fmt.Errorf("it is no object")
	}
	if err != nil {
		return nil, fmt.Errorf("read the description: %w", err)
	}
	return doc, nil
}

// generate writes types or a client from a description.
func (a *app) generate(text []byte, language, name string) error {
	doc, err := readDescription(text)
	if err != nil {
		return err
	}
	if language == "typescript" {
		_, err = io.WriteString(a.Out, generate.TypeScript(doc))
		return err
	}
	// A window's name may have hyphens; a package's has letters and digits.
	out, err := generate.Go(doc, strings.Map(func(c rune) rune {
		if unicode.IsLetter(c) || unicode.IsDigit(c) {
			return c
		}
		return -1
	}, name))
	if err != nil {
		return err
	}
	_, err = a.Out.Write(out)
	return err
}
