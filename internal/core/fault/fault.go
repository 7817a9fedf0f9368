// Package fault is the one error type for everything that a caller or an operator can cause.
//
// A fault says what is wrong, where, and what would be right. Its Kind is a matter of meaning, not of HTTP: the server
// maps kinds to statuses. Whatever a caller cannot cause stays an ordinary error and is never shown to them.
package fault

import (
	"errors"
	"fmt"
	"strings"
	"time"
)

// Kind says what sort of mistake a fault is.
type Kind uint8

// The kinds, in the order of the statuses that the server gives them.
const (
	Invalid          Kind = iota // the request or document can't be understood
	Unauthenticated              // no token, or one that is not accepted
	Forbidden                    // the role may not
	NotFound                     // no such row or path
	MethodNotAllowed             // not this method here
	NotAcceptable                // no format that the caller accepts
	Conflict                     // the row stands against another one
	VersionMismatch              // the row has changed since
	TooLarge                     // the body is too long
	TooLong                      // the URL is too long
	UnsupportedMedia             // the body has a type that is not accepted
	Unprocessable                // well formed, but a rule of the database refuses it
	FailedDependency             // something that it depends on has failed
	VersionNeeded                // a version must be sent along
	TooMany                      // the caller asks too often
	Unsupported                  // a part of the standard that is not done
	Unavailable                  // the database is away
	TimedOut                     // a time limit was reached
)

// Detail is one of several mistakes told at once. Line and Column count from 1 and are 0 where there is no text to point into.
type Detail struct {
	Code    string `json:"code"`
	Message string `json:"message"`
	Target  string `json:"target,omitempty"`
	Line    int    `json:"line,omitempty"`
	Column  int    `json:"column,omitempty"`
}

// Fault is an error with a kind, a stable dotted code, a sentence, and the part of the request it is about.
type Fault struct {
	Kind    Kind
	Code    string
	Message string
	Target  string
	Details []Detail
	Allow   []string      // the methods that are allowed, for MethodNotAllowed
	Wait    time.Duration // before the next try, for TooMany and Unavailable
}

// Error is the message, followed by the messages of the details where there are any.
func (f *Fault) Error() string {
	if len(f.Details) == 0 {
		return f.Message
	}
	lines := make([]string, 0, len(f.Details)+1)
	lines = append(lines, f.Message)
	for _, d := range f.Details {
		lines = append(lines, d.String())
	}
	return strings.Join(lines, "\n")
}

// String is the detail on one line: its place in the text, if it has one, then the message.
func (d Detail) String() string {
	if d.Line == 0 {
		return d.Message
	}
	return fmt.Sprintf("line %d, column %d: %s", d.Line, d.Column, d.Message)
}

// Refusal is what the database refused, for whoever may know more than a caller: a constraint's name and PostgreSQL's words.
type Refusal struct {
	*Fault
	Table, Constraint, Column string
	Words                     string
	Argument                  int // of the statement, counted from 1, that could not be read; 0: none
}

// Unwrap makes the fault visible to errors.As.
func (r *Refusal) Unwrap() error { return r.Fault }

// New makes a fault with a formatted message.
func New(kind Kind, code, format string, args ...any) *Fault {
	return &Fault{Kind: kind, Code: code, Message: fmt.Sprintf(format, args...)}
}

// NotAllowed makes a fault of a method that is not possible, with those that are.
func NotAllowed(code string, allow []string, format string, args ...any) *Fault {
	f := New(MethodNotAllowed, code, format, args...)
	f.Allow = allow
	return f
}

// On names the part of the request that the fault is about, and returns the fault.
func (f *Fault) On(target string) *Fault {
	f.Target = target
	return f
}

// List collects mistakes so that all of them can be told at once.
type List []Detail

// Add appends a mistake.
func (l *List) Add(code, target string, line, column int, format string, args ...any) {
	*l = append(*l, Detail{Code: code, Target: target, Line: line, Column: column, Message: fmt.Sprintf(format, args...)})
}

// Fault is nil for an empty list; for one mistake the fault is that mistake itself; for more, message introduces them.
func (l List) Fault(kind Kind, code, message string) error {
	switch len(l) {
	case 0:
		return nil
	case 1:
		return &Fault{Kind: kind, Code: l[0].Code, Message: l[0].String(), Target: l[0].Target, Details: nil}
	}
	return &Fault{Kind: kind, Code: code, Message: message, Details: l}
}

// Join is one fault of several: nil for none, the one that there is, or one that tells of all. An error that is no fault comes first.
func Join(code, what string, errs []error) error {
	var all List
	kind := Invalid
	for i, err := range errs {
		f, ok := From(err)
		if !ok || len(errs) == 1 {
			return err
		}
		if i == 0 {
			kind = f.Kind
		} else if kind != f.Kind {
			kind = Invalid
		}
		if len(f.Details) > 0 {
			all = append(all, f.Details...)
			continue
		}
		all = append(all, Detail{Code: f.Code, Message: f.Message, Target: f.Target})
	}
	if len(all) == 0 {
		return nil
	}
	return &Fault{Kind: kind, Code: code, Message: fmt.Sprintf("%s has %d mistakes", what, len(all)), Details: all}
}

// From finds the fault in an error's chain.
func From(err error) (*Fault, bool) {
	if err == nil {
		return nil, false // without the room that looking takes
	}
	var f *Fault
	ok := errors.As(err, &f)
	return f, ok
}

// Within says where in a body a fault belongs, unless it says so itself. Other errors, and those that have details, stay as they are.
func Within(err error, place string) error {
	f, ok := From(err)
	if !ok || place == "" || len(f.Details) > 0 {
		return err
	}
	if rest, named := strings.CutPrefix(f.Message, place); named && strings.IndexAny(rest, " :/") == 0 {
		return err
	}
	at := *f
	at.Message, at.Target = place+": "+f.Message, place
	return &at
}
