package identity

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"time"

	"github.com/golang-jwt/jwt/v5"

	"eagerwindow/internal/core/access"
	"eagerwindow/internal/core/fault"
	"eagerwindow/internal/records"
)

// NewTrial is what an operator asks for to call the live API as somebody for a while.
type NewTrial struct {
	Roles   []string       `json:"roles"`
	Claims  map[string]any `json:"claims,omitempty"`
	Seconds int            `json:"seconds,omitempty"` // how long the token is good; 0: ten minutes
}

// How long a token for trials is good.
const (
	trialLife    = 10 * time.Minute
	maxTrialLife = time.Hour
)

// TrialToken makes a token with which an operator calls the live API as a role, with claims of its choice. Its making is in the audit,
// and it is good as long as the operator is one.
func (s *Directory) TrialToken(ctx context.Context, name, operator string, in NewTrial, origin string) (*Token, error) {
	life := time.Duration(in.Seconds) * time.Second
	if in.Seconds == 0 {
		life = trialLife
	}
	if life < time.Second || life > maxTrialLife {
		return nil, fault.New(fault.Invalid, "token.time", "a token for trials is good for 1 to %d seconds, not %d", int(maxTrialLife.Seconds()),
			in.Seconds).On("seconds")
	}
	if err := s.admissible(ctx, name, in.Roles, in.Claims); err != nil {
		return nil, err
	}
	if err := s.records.Note(ctx, "make token", name, map[string]any{"roles": in.Roles, "claims": in.Claims,
		"seconds": int(life.Seconds())}); err != nil {
		return nil, fmt.Errorf("note a token in the audit: %w", err)
	}
	return s.sign(ctx, name, origin, tokenClaims{Operator: operator, Roles: in.Roles, Claims: in.Claims,
		RegisteredClaims: jwt.RegisteredClaims{Subject: "operator " + operator}}, life)
}

// trialCaller is who calls with a token that an operator has made.
func (s *Directory) trialCaller(ctx context.Context, name string, c *tokenClaims) (access.Caller, error) {
	key := callerKey{name, anOperator, c.Operator}
	if _, ok := s.callers.Get(key); !ok {
		list, err := s.records.Operators(ctx)
		if err != nil && !errors.Is(err, records.ErrNone) {
			return access.Caller{}, s.away("read the operators", err)
		}
		if !slices.ContainsFunc(list, func(o *records.Operator) bool { return o.Email == c.Operator && !o.Disabled }) {
			return access.Caller{}, fault.New(fault.Unauthenticated, "token.revoked", "who made this token is no operator any more")
		}
		s.callers.Add(key, &known{subject: c.Subject})
	}
	return access.Caller{Subject: c.Subject, Program: true, Roles: c.Roles, Claims: c.Claims}, nil
}
