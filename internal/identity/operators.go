package identity

import (
	"context"
	"encoding/base64"
	"errors"
	"fmt"
	"time"

	"eagerwindow/internal/core/fault"
	"eagerwindow/internal/records"
)

// Who edits and publishes, as the management API has it.
type (
	// OperatorEntry is an operator.
	OperatorEntry struct {
		Email      string     `json:"email"`
		Disabled   bool       `json:"disabled"`
		Created    time.Time  `json:"created"`
		LastSignIn *time.Time `json:"last_sign_in"`
	}
	// NewOperator is an operator with a password; without one it is made.
	NewOperator struct {
		Email    string `json:"email"`
		Password string `json:"password,omitempty"`
	}
	// OperatorChange changes an operator: what is left out stays.
	OperatorChange struct {
		Password string `json:"password,omitempty"`
		Disabled *bool  `json:"disabled,omitempty"`
	}
)

// Operators lists who edits and publishes.
func (s *Directory) Operators(ctx context.Context) ([]OperatorEntry, error) {
	list, err := s.records.Operators(ctx)
	if err != nil {
		return nil, fmt.Errorf("read the operators: %w", err)
	}
	out := make([]OperatorEntry, len(list))
	for i, o := range list {
		out[i] = OperatorEntry{o.Email, o.Disabled, o.CreatedAt, o.SignedInAt}
	}
	return out, nil
}

// AddOperator adds an operator and returns it with its password, which is reported this once.
func (s *Directory) AddOperator(ctx context.Context, in NewOperator) (*NewOperator, error) {
	if in.Password == "" {
		in.Password = base64.RawURLEncoding.EncodeToString(randomBytes(15))
	}
	if err := Credentials(in).check(); err != nil {
		return nil, err
	}
	hash, err := s.hash(ctx, in.Password)
	if err != nil {
		return nil, err
	}
	err = s.records.AddOperator(ctx, in.Email, hash)
	if errors.Is(err, records.ErrTaken) {
		return nil, fault.New(fault.Conflict, "operator.exists", "there is an operator %q already", in.Email)
	}
	return &in, err
}

// ChangeOperator changes an operator. All of its sessions end, but for the one with the token.
func (s *Directory) ChangeOperator(ctx context.Context, email string, in OperatorChange, token string) error {
	hash := ""
	if in.Password != "" {
		if err := goodPassword(in.Password); err != nil {
			return err
		}
		var err error
		if hash, err = s.hash(ctx, in.Password); err != nil {
			return err
		}
	}
	return s.operatorFault(ctx, email, s.records.ChangeOperator(ctx, email, hash, in.Disabled, tokenHash(token)))
}

// RemoveOperator removes an operator. Its sessions end.
func (s *Directory) RemoveOperator(ctx context.Context, email string) error {
	return s.operatorFault(ctx, email, s.records.RemoveOperator(ctx, email))
}

// operatorFault says what is wrong, where the records say so.
func (s *Directory) operatorFault(ctx context.Context, email string, err error) error {
	switch {
	case errors.Is(err, records.ErrTaken):
		return fault.New(fault.Conflict, "operator.last", "%q is the last operator who can sign in; add another one first", email)
	case !errors.Is(err, records.ErrNone):
		return err
	}
	list, err := s.records.Operators(ctx)
	if err != nil {
		return err
	}
	names := make([]string, len(list))
	for i, o := range list {
		names[i] = o.Email
	}
	return fault.New(fault.NotFound, "operator.unknown", "there is no operator %q%s", email, fault.Suggest(email, names))
}
