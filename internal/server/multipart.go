package server

import (
	"bufio"
	"bytes"
	"errors"
	"fmt"
	"io"
	"mime"
	"mime/multipart"
	"net/http"
	"net/textproto"
	"strings"

	"eagerwindow/internal/core/fault"
	"eagerwindow/internal/core/payload"
)

// A batch as MIME has it, the only form that version 4.0 knows (Protocol 4.01, 11.7.7): each request is a part of its own, and a part
// that is multipart itself is a group. The answer has the same form where that is asked for, or nothing else is.

const multipartBatch = `a part of a batch is Content-Type: application/http with one request in it, or multipart/mixed with a group of them`

// multipartRequests reads a batch of parts.
func multipartRequests(body []byte, boundary string) ([]*payload.Request, error) {
	p := &partReader{}
	if err := p.read(body, boundary, ""); err != nil {
		var f *fault.Fault
		if errors.As(err, &f) {
			return nil, err
		}
		return nil, fault.New(fault.Invalid, "body.syntax", "the body is no multipart/mixed message of this boundary: %v", err)
	}
	return payload.Ordered(p.requests)
}

type partReader struct {
	requests []*payload.Request
	groups   int
}

func (p *partReader) read(body []byte, boundary, group string) error {
	if boundary == "" {
		return fault.New(fault.Invalid, "batch.invalid",
			"a multipart/mixed message names its boundary: Content-Type: multipart/mixed; boundary=b")
	}
	reader := multipart.NewReader(bytes.NewReader(body), boundary)
	for {
		part, err := reader.NextRawPart()
		if err == io.EOF { // itself: wrapped, the last boundary is missing
			return nil
		}
		if err != nil {
			return err
		}
		if len(p.requests) > payload.MostRequests { // which is refused
			return nil
		}
		text, err := io.ReadAll(part)
		if err != nil {
			return err
		}
		kind, params, _ := mime.ParseMediaType(part.Header.Get("Content-Type"))
		switch {
		case kind == "application/http":
			q, err := p.request(text, part.Header.Get("Content-ID"))
			if err != nil {
				return err
			}
			q.Group = group
			p.requests = append(p.requests, q)
		case kind == "multipart/mixed" && group == "":
			p.groups++
			if err := p.read(text, params["boundary"], fmt.Sprintf("group %d", p.groups)); err != nil {
				return err
			}
		default:
			return fault.New(fault.Invalid, "batch.invalid", "part %d is %q; %s", len(p.requests)+1, part.Header.Get("Content-Type"), multipartBatch)
		}
	}
}

// request reads the request of a part. What has no Content-ID gets a number that none has.
func (p *partReader) request(text []byte, id string) (*payload.Request, error) {
	at := len(p.requests) + 1
	lines := bufio.NewReader(bytes.NewReader(text))
	first, err := lines.ReadString('\n')
	fields := strings.Fields(first)
	if len(fields) != 2 && len(fields) != 3 {
		return nil, fault.New(fault.Invalid, "batch.invalid", "part %d begins with %q; write a request, such as GET vessels/3 HTTP/1.1", at,
			strings.TrimSpace(first))
	}
	header := textproto.MIMEHeader{}
	if err == nil {
		if header, err = textproto.NewReader(lines).ReadMIMEHeader(); err != nil && !errors.Is(err, io.EOF) {
			return nil, fault.New(fault.Invalid, "batch.invalid", "the header of part %d can't be read: %v", at, err)
		}
	}
	rest, _ := io.ReadAll(lines) // of bytes that are there
	q := &payload.Request{ID: strings.Trim(id, "<>"), Method: strings.ToUpper(fields[0]), URL: fields[1], Headers: map[string]string{},
		Raw: bytes.TrimRight(rest, "\r\n")}
	for name, values := range header {
		q.Headers[name] = strings.Join(values, ", ")
	}
	if q.ID == "" { // some clients put it among the headers of the request
		q.ID = strings.Trim(header.Get("Content-ID"), "<>")
	}
	delete(q.Headers, "Content-Id")
	if q.ID == "" {
		q.ID = fmt.Sprintf("part %d", at)
	}
	return q, nil
}

// wantsMultipart reports whether the answer to a batch is one of parts, as it always is in version 4.0: a batch is answered in the kind
// that it came in, unless the caller does not take that one.
func wantsMultipart(r *http.Request, given bool) bool {
	if v40, err := maxVersion(r); given && v40 && err == nil {
		return true
	}
	accept := acceptables(strings.Join(r.Header.Values("Accept"), ","))
	if len(accept) == 0 {
		return given
	}
	inParts, inJSON := quality(accept, "multipart/mixed"), quality(accept, "application/json")
	return given && inParts > 0 || inParts > inJSON
}

// parts writes the answers to a batch as parts.
type parts struct {
	out      *answer
	boundary string
	groups   int
}

func newParts(out *answer) *parts {
	p := &parts{out: out, boundary: "batch_" + idOf(out.w)}
	out.kind = "multipart/mixed; boundary=" + p.boundary
	return p
}

// add adds the answers to one request, or to a group: one part with all of them where it was done, else the answer that says why not. An
// answer to what was not tried is left out.
func (p *parts) add(list []*batchResponse) {
	if list[0].Group == "" {
		if list[0].Status != http.StatusFailedDependency {
			p.out.buf = appendPart(p.out.buf, p.boundary, list[0])
		}
		return
	}
	for _, res := range list {
		if res.Status >= http.StatusBadRequest {
			if res.Status != http.StatusFailedDependency {
				p.out.buf = appendPart(p.out.buf, p.boundary, res)
			}
			continue
		}
	}
	if list[0].Status >= http.StatusBadRequest {
		return
	}
	p.groups++
	inner := fmt.Sprintf("%s_%d", p.boundary, p.groups)
	p.out.buf = fmt.Appendf(p.out.buf, "--%s\r\nContent-Type: multipart/mixed; boundary=%s\r\n\r\n", p.boundary, inner)
	for _, res := range list {
		p.out.buf = appendPart(p.out.buf, inner, res)
	}
	p.out.buf = fmt.Appendf(p.out.buf, "--%s--\r\n", inner)
}

func (p *parts) end() { p.out.buf = fmt.Appendf(p.out.buf, "--%s--\r\n", p.boundary) }

func appendPart(dst []byte, boundary string, res *batchResponse) []byte {
	dst = fmt.Appendf(dst, "--%s\r\nContent-Type: application/http\r\nContent-Transfer-Encoding: binary\r\n", boundary)
	if !strings.HasPrefix(res.ID, "part ") {
		dst = fmt.Appendf(dst, "Content-ID: %s\r\n", strings.NewReplacer("\r", "", "\n", "").Replace(res.ID)) // of a batch in JSON, any text
	}
	dst = fmt.Appendf(dst, "\r\nHTTP/1.1 %d %s\r\n", res.Status, http.StatusText(res.Status))
	var header bytes.Buffer
	_ = res.header.Write(&header) // into memory
	dst = append(dst, header.Bytes()...)
	if len(res.raw) > 0 || res.Status != http.StatusNoContent {
		dst = fmt.Appendf(dst, "Content-Length: %d\r\n", len(res.raw))
	}
	return append(append(append(dst, "\r\n"...), res.raw...), "\r\n"...)
}
