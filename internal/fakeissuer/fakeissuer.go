// Package fakeissuer is a small issuer of tokens that stands in for somebody else's identity provider, in the demo and the tests. It
// believes whatever it is reported, so it is for these alone.
package fakeissuer

import (
	"crypto/rand"
	"crypto/rsa"
	"encoding/json"
	"fmt"
	"net/http"
	"strconv"
	"sync"
	"time"

	"github.com/MicahParks/jwkset"
	"github.com/golang-jwt/jwt/v5"
)

// Issuer signs tokens with RS256.
type Issuer struct {
	Name string // the iss of its tokens

	mu   sync.Mutex
	key  *rsa.PrivateKey
	made int
}

// New makes an issuer with a first key.
func New(name string) (*Issuer, error) {
	i := &Issuer{Name: name}
	return i, i.Rotate()
}

// Rotate makes a new key; the old one is gone.
func (i *Issuer) Rotate() error {
	key, err := rsa.GenerateKey(rand.Reader, 2048)
	if err != nil {
		return err
	}
	i.mu.Lock()
	defer i.mu.Unlock()
	i.key = key
	i.made++
	return nil
}

// Key is the key that it signs with now, and the key's name.
func (i *Issuer) Key() (*rsa.PrivateKey, string) {
	i.mu.Lock()
	defer i.mu.Unlock()
	return i.key, "key-" + strconv.Itoa(i.made)
}

// Token signs claims; iss, iat and an exp in an hour are added where they are not given.
func (i *Issuer) Token(claims map[string]any) (string, error) {
	now := time.Now().Unix()
	all := jwt.MapClaims{"iss": i.Name, "iat": now, "exp": now + 3600}
	for name, value := range claims {
		all[name] = value
	}
	key, id := i.Key()
	t := jwt.NewWithClaims(jwt.SigningMethodRS256, all)
	t.Header["kid"] = id
	return t.SignedString(key)
}

// ServeHTTP answers GET /jwks.json, and POST /token with a form whose role becomes realm/role, whose aud and sub stand as they are, and
// whose other fields become claims.
func (i *Issuer) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	out, err := i.serve(r)
	if err != nil {
		http.Error(w, err.Error(), http.StatusBadRequest)
		return
	}
	w.Header().Set("Content-Type", "application/json")
	_ = json.NewEncoder(w).Encode(out) // the caller has gone away if this fails
}

func (i *Issuer) serve(r *http.Request) (any, error) {
	switch r.Method + " " + r.URL.Path {
	case "GET /jwks.json":
		private, id := i.Key()
		key, err := jwkset.NewJWKFromKey(private.Public(),
			jwkset.JWKOptions{Metadata: jwkset.JWKMetadataOptions{KID: id, ALG: jwkset.AlgRS256, USE: jwkset.UseSig}})
		if err != nil {
			return nil, err
		}
		return jwkset.JWKSMarshal{Keys: []jwkset.JWKMarshal{key.Marshal()}}, nil
	case "POST /token":
		if err := r.ParseForm(); err != nil {
			return nil, err
		}
		claims := map[string]any{}
		for name := range r.PostForm {
			claims[name] = r.PostForm.Get(name)
		}
		delete(claims, "role")
		claims["realm"] = map[string]any{"role": r.PostForm["role"]}
		token, err := i.Token(claims)
		return map[string]string{"access_token": token, "token_type": "Bearer"}, err
	}
	return nil, fmt.Errorf("the stand-in issuer answers GET /jwks.json and POST /token")
}
