// Package seal encrypts what must not be readable in the records, and what callers carry but may not read. In go a text and its context;
// out comes what opens only with the same secret and context, unchanged.
package seal

import (
	"crypto/cipher"
	"crypto/hmac"
	"crypto/rand"
	"crypto/sha256"
	"errors"
	"strings"

	"golang.org/x/crypto/chacha20poly1305"
)

// Box seals and opens with one secret.
type Box struct {
	aead cipher.AEAD
	mac  [sha256.Size]byte // the key of MAC
}

const minSecret = 16

// New makes a box from a secret of at least 16 characters.
func New(secret string) (*Box, error) {
	if len(secret) < minSecret {
		return nil, errors.New("EAGER_SECRET is missing or too short: set it to at least 16 random characters, and keep it; " +
			"it seals passwords of sources at rest")
	}
	key := sha256.Sum256([]byte("eager window at rest\x00" + secret))
	aead, err := chacha20poly1305.NewX(key[:])
	if err != nil {
		return nil, err
	}
	return &Box{aead, sha256.Sum256([]byte("eager window audit\x00" + secret))}, nil
}

// Seal encrypts; context must be the same when it is opened again.
func (s *Box) Seal(plain []byte, context ...string) []byte {
	nonce := make([]byte, s.aead.NonceSize(), s.aead.NonceSize()+len(plain)+s.aead.Overhead())
	_, _ = rand.Read(nonce) // never fails; see crypto/rand
	return s.aead.Seal(nonce, nonce, plain, []byte(strings.Join(context, "\x00")))
}

// MAC is a code that only the same secret gives a text (HMAC-SHA256, RFC 2104).
func (s *Box) MAC(text []byte) []byte {
	h := hmac.New(sha256.New, s.mac[:])
	h.Write(text)
	return h.Sum(nil)
}

var errSealed = errors.New("sealed with another secret, or changed")

// Open decrypts. What was changed, or sealed with another secret or context, does not open.
func (s *Box) Open(sealed []byte, context ...string) ([]byte, error) {
	n := s.aead.NonceSize()
	if len(sealed) < n {
		return nil, errSealed
	}
	plain, err := s.aead.Open(nil, sealed[:n], sealed[n:], []byte(strings.Join(context, "\x00")))
	if err != nil {
		return nil, errSealed
	}
	return plain, nil
}
