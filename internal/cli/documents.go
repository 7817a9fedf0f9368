package cli

import (
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"

	"eagerwindow/internal/core/window"
)

// documentFile is a window document as it was read, with the overlay that stands in a file beside it.
type documentFile struct {
	name    string // "-" for standard input
	overlay string // the file of the overlay; "" where it is in the document's own text, or there is none
	text    string // both
	lines   int    // how many lines come before those of the overlay's file
}

// document reads a window document from a file, or from standard input for "-", and its overlay from the file that it names.
func (a *app) document(file string) (documentFile, error) {
	d := documentFile{name: file}
	if file == "-" {
		text, err := io.ReadAll(a.In)
		d.text = string(text)
		return d, err
	}
	text, err := os.ReadFile(file)
	if err != nil {
		return d, usage("%w", err)
	}
	d.text = string(text)
	own, overlay := window.Split(d.text)
	name := window.OverlayFile(own)
	if name == "" || overlay != "" {
		return d, nil
	}
	d.overlay = overlayPath(file, name)
	text, err = os.ReadFile(d.overlay)
	if err != nil {
		return d, usage("the overlay of %s: %w", file, err)
	}
	if !strings.HasSuffix(d.text, "\n") {
		d.text += "\n"
	}
	d.text += "---\n"
	d.lines = strings.Count(d.text, "\n")
	d.text += strings.TrimPrefix(string(text), "---\n")
	return d, nil
}

// overlayPath is where the overlay of a document is, which the document names as seen from its own folder.
func overlayPath(file, name string) string {
	if filepath.IsAbs(name) {
		return name
	}
	return filepath.Join(filepath.Dir(file), name)
}

// writeDocument writes a document into its file, and its overlay into the one that it names.
func writeDocument(file, text string) error {
	own, overlay := window.Split(text)
	name := window.OverlayFile(own)
	if name == "" || overlay == "" {
		return os.WriteFile(file, []byte(text), 0o644)
	}
	if err := os.WriteFile(overlayPath(file, name), []byte(overlay), 0o644); err != nil {
		return err
	}
	return os.WriteFile(file, []byte(own), 0o644)
}

var placeInText = regexp.MustCompile(`line (\d+)`)

// placed is an error about a document, with its places as they are in the files.
func (d documentFile) placed(err error) error {
	if d.overlay == "" {
		return fmt.Errorf("%s: %w", d.name, err)
	}
	text := placeInText.ReplaceAllStringFunc(err.Error(), func(place string) string {
		if n, _ := strconv.Atoi(place[len("line "):]); n > d.lines {
			return d.overlay + ", line " + strconv.Itoa(n-d.lines)
		}
		return place
	})
	return placedError{errors.New(d.name + ": " + text), err}
}

// placedError says something else than the error that it is.
type placedError struct {
	error
	is error
}

func (e placedError) Unwrap() error { return e.is }
