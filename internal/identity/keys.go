package identity

import (
	"context"
	"crypto/ed25519"
	"crypto/rand"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"sync"
	"sync/atomic"
	"time"

	"github.com/MicahParks/jwkset"

	"eagerwindow/internal/records"
)

// How long keys live. A new one signs as soon as it is there, and the one before it checks the tokens that it has signed.
const (
	keyLife      = 30 * 24 * time.Hour // until the next one is made
	keyAfterlife = 24 * time.Hour      // beside the next one; longer than any token
)

// fresh is for how long what the records say of callers and keys may be taken from memory. It is under a second, so that a change
// takes effect within one, on every instance.
const fresh = 900 * time.Millisecond

// keyring is the keys that sign and check tokens (RFC 9068, EdDSA).
type keyring struct {
	id      string // of the one that signs
	private ed25519.PrivateKey
	public  map[string]ed25519.PublicKey
	read    time.Time
}

// keys holds the keyring that was read last.
type keys struct {
	reading sync.Mutex
	last    atomic.Pointer[keyring]
}

// ring is the keys as the records have them now; a new one is made where the youngest is too old.
func (s *Directory) ring(ctx context.Context, now time.Time) (*keyring, error) {
	if r := s.keys.last.Load(); r != nil && now.Sub(r.read) < fresh {
		return r, nil
	}
	s.keys.reading.Lock()
	defer s.keys.reading.Unlock()
	if r := s.keys.last.Load(); r != nil && now.Sub(r.read) < fresh { // somebody else has read them
		return r, nil
	}
	list, err := s.records.SigningKeys(ctx)
	if err == nil && (len(list) == 0 || time.Since(list[0].CreatedAt) > keyLife) {
		if err = s.addKey(ctx, keyLife); err == nil {
			list, err = s.records.SigningKeys(ctx)
		}
	}
	if err != nil {
		return nil, fmt.Errorf("read the signing keys: %w", err)
	}
	r := &keyring{public: map[string]ed25519.PublicKey{}, read: now}
	for _, k := range list {
		seed, err := s.box.Open(k.Sealed)
		if err != nil {
			return nil, errors.New("the records were sealed with another EAGER_SECRET; start the service with that one")
		}
		private := ed25519.NewKeyFromSeed(seed)
		r.public[k.ID] = private.Public().(ed25519.PublicKey)
		if r.private == nil {
			r.id, r.private = k.ID, private
		}
	}
	s.keys.last.Store(r)
	return r, nil
}

func (s *Directory) addKey(ctx context.Context, unlessYounger time.Duration) error {
	public, private, err := ed25519.GenerateKey(rand.Reader)
	if err != nil {
		return err
	}
	sum := sha256.Sum256(public)
	key := records.SigningKey{ID: hex.EncodeToString(sum[:8]), Sealed: s.box.Seal(private.Seed())}
	if err := s.records.AddSigningKey(ctx, key, unlessYounger); err != nil {
		return err
	}
	return s.records.RetireSigningKeys(ctx, keyAfterlife)
}

// RotateKeys makes a new signing key. Tokens of the older ones are good as long as they last, or not at all any more with forget.
func (s *Directory) RotateKeys(ctx context.Context, forget bool) error {
	if err := s.records.Note(ctx, "rotate keys", "signing-keys", map[string]any{"forget": forget}); err != nil {
		return fmt.Errorf("note that a key is made: %w", err)
	}
	if err := s.addKey(ctx, 0); err != nil {
		return fmt.Errorf("make a signing key: %w", err)
	}
	if forget {
		if err := s.records.RetireSigningKeys(ctx, 0); err != nil {
			return fmt.Errorf("forget the older signing keys: %w", err)
		}
	}
	s.keys.last.Store(nil)
	return nil
}

// KeySet is the public keys as others read them (RFC 7517, 5).
func (s *Directory) KeySet(ctx context.Context) (jwkset.JWKSMarshal, error) {
	ring, err := s.ring(ctx, time.Now())
	if err != nil {
		return jwkset.JWKSMarshal{}, err
	}
	store := jwkset.NewMemoryStorage()
	for id, public := range ring.public {
		key, err := jwkset.NewJWKFromKey(public,
			jwkset.JWKOptions{Metadata: jwkset.JWKMetadataOptions{KID: id, ALG: jwkset.AlgEdDSA, USE: jwkset.UseSig}})
		if err != nil {
			return jwkset.JWKSMarshal{}, err
		}
		if err := store.KeyWrite(ctx, key); err != nil {
			return jwkset.JWKSMarshal{}, err
		}
	}
	return store.Marshal(ctx)
}
