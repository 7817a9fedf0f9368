package identity

import (
	"context"
	"crypto/sha256"
	"encoding/base64"
	"fmt"
	"math"
	"strings"
	"time"
	"unicode"
	"unicode/utf8"

	"github.com/alexedwards/argon2id"

	"eagerwindow/internal/core/fault"
)

// Hashing is what a hash of a password costs; the zero value is RFC 9106's second recommendation: 64 MiB, three passes.
type Hashing struct {
	Memory uint32 // in KiB
	Passes uint32
}

func (h Hashing) params() *argon2id.Params {
	if h.Memory == 0 {
		h = Hashing{64 * 1024, 3}
	}
	return &argon2id.Params{Memory: h.Memory, Iterations: h.Passes, Parallelism: 2, SaltLength: 16, KeyLength: 32}
}

// hashersAtOnce bounds the memory that guessing can take.
const hashersAtOnce = 4

// Guessing slows down: after some wrong guesses each further one must wait twice as long as the one before, until none comes for a while.
const (
	freeForOne    = 5   // at one caller from one address
	freeForPlace  = 30  // from one address
	freeForCaller = 100 // at one caller, from anywhere
	freeSignUps   = 20  // from one address: each tells whether an address has an account
	longestWait   = 15 * time.Minute
	guessesKept   = time.Hour
)

// guess is one try at a password or secret: of a client or an account of a window, or of an operator.
type guess struct{ kind, window, name, from string }

// keys are what is counted, and how much of it is free.
func (g guess) keys() ([]string, []int) {
	return []string{countKey("one", g.kind, g.window, g.name, g.from), countKey("place", g.from),
		countKey("caller", g.kind, g.window, g.name)}, []int{freeForOne, freeForPlace, freeForCaller}
}

// countKey is what is counted under, of any length whatever its parts: they are told apart, and what was typed is not kept.
func countKey(parts ...string) string {
	sum := sha256.New()
	for _, part := range parts {
		fmt.Fprintf(sum, "%d:%s", len(part), part)
	}
	return base64.RawURLEncoding.EncodeToString(sum.Sum(nil))
}

// longestName is how long the ids and addresses of callers may be.
const longestName = 254

// plainName refuses what can be nobody's id or address, before it is looked up, counted or hashed.
func plainName(what, name string) error {
	odd := func(r rune) bool { return r == utf8.RuneError || !unicode.IsPrint(r) }
	if name == "" || len(name) > longestName || strings.ContainsFunc(name, odd) {
		return fault.New(fault.Invalid, "name.invalid", "%s: from 1 to %d characters are expected, none of them a control character", what,
			longestName).On(what)
	}
	return nil
}

// countSignUp counts that somebody signs up, or refuses it for now.
func (s *Directory) countSignUp(ctx context.Context, from string) error {
	wait, err := s.records.CountIfAllowed(ctx, countKey("sign up", from), guessesKept, func(count int, ago time.Duration) time.Duration {
		if count < freeSignUps {
			return 0
		}
		return backoff(count-freeSignUps) - ago
	})
	if err != nil {
		return fmt.Errorf("count who signs up: %w", err)
	}
	return throttled(wait)
}

func throttled(wait time.Duration) error {
	if wait <= 0 {
		return nil
	}
	f := fault.New(fault.TooMany, "sign_in.throttled", "too many tries; the next one in %d s", int(math.Ceil(wait.Seconds())))
	f.Wait = wait
	return f
}

// matches reports whether a secret is the one of a hash; "" is the hash of nobody, which takes as long to find out. Who guesses too often
// is refused before.
func (s *Directory) matches(ctx context.Context, g guess, secret, hash string) (bool, error) {
	if len(secret) > longestPassword {
		return false, fault.New(fault.Invalid, "password.long", "a password or secret has at most %d bytes", longestPassword)
	}
	select {
	case s.hashers <- struct{}{}:
		defer func() { <-s.hashers }()
	case <-ctx.Done():
		return false, ctx.Err()
	}
	if err := s.mayGuess(ctx, g); err != nil {
		return false, err
	}
	ok := false
	if hash == "" {
		_, _ = argon2id.CreateHash(secret, s.hashing)
	} else {
		match, err := argon2id.ComparePasswordAndHash(secret, hash)
		ok = err == nil && match
	}
	keys, _ := g.keys()
	var err error
	if ok {
		err = s.records.GuessedRight(ctx, keys[0])
	} else {
		err = s.records.Guessed(ctx, keys, guessesKept)
	}
	if err != nil {
		return false, fmt.Errorf("count guesses: %w", err)
	}
	return ok, nil
}

func (s *Directory) mayGuess(ctx context.Context, g guess) error {
	keys, free := g.keys()
	counts, ago, err := s.records.WrongGuesses(ctx, keys)
	if err != nil {
		return fmt.Errorf("count guesses: %w", err)
	}
	var wait time.Duration
	for i, key := range keys {
		if over := counts[key] - free[i]; over >= 0 {
			wait = max(wait, backoff(over)-ago[key])
		}
	}
	return throttled(wait)
}

// backoff is how long a guess must wait after so many over those that are free.
func backoff(over int) time.Duration {
	if over > 20 {
		return longestWait
	}
	return min(longestWait, time.Second<<over)
}

// hash is what is kept of a password or secret.
func (s *Directory) hash(ctx context.Context, secret string) (string, error) {
	select {
	case s.hashers <- struct{}{}:
		defer func() { <-s.hashers }()
	case <-ctx.Done():
		return "", ctx.Err()
	}
	return argon2id.CreateHash(secret, s.hashing)
}
