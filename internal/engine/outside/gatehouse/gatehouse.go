// Package gatehouse stands in for a provider that vouches for people by OpenID Connect, in tests
// and in the demo: who comes chooses by a click whom to be. It speaks the authorization code flow
// with PKCE to clients without a secret, on loopback alone.
package gatehouse

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/sha256"
	_ "embed"
	"encoding/base64"
	"encoding/json"
	"html/template"
	"net/http"
	"net/url"
	"slices"
	"sync"
	"time"

	"steadyferry/internal/core/endpoint"

	"github.com/go-jose/go-jose/v4"
)

// Person is one of those that it vouches for.
type Person struct {
	Name   string
	Says   string // on its page, what they do
	Groups []string
}

// Bounds of what it keeps.
const (
	codeLives  = time.Minute
	tokenLives = 5 * time.Minute
	mostCodes  = 1000
)

// House is the stand-in. It may be used by many at once.
type House struct {
	issuer string // without a slash at the end
	client string
	people []Person

	mu    sync.Mutex
	key   *ecdsa.PrivateKey
	keyID string
	codes map[string]*entry
	away  bool
	twist func(claims map[string]any)
}

// entry is what a code stands for.
type entry struct {
	person                     Person
	redirect, nonce, challenge string
	until, authenticated       time.Time
}

// New returns a provider for a client, at an address.
func New(issuer, client string, people []Person) *House {
	h := &House{issuer: issuer, client: client, people: people, codes: map[string]*entry{}}
	h.Rotate()
	return h
}

// Rotate has it sign with another key from now on; what the old one has signed is valid no more.
func (h *House) Rotate() {
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		panic(err) // there is no randomness
	}
	h.mu.Lock()
	defer h.mu.Unlock()
	h.key, h.keyID = key, rand.Text()
}

// Away has it answer nothing of use, until it is back.
func (h *House) Away(away bool) {
	h.mu.Lock()
	defer h.mu.Unlock()
	h.away = away
}

// Twist has the claims be changed before they are signed; nil: they stay.
func (h *House) Twist(f func(claims map[string]any)) {
	h.mu.Lock()
	defer h.mu.Unlock()
	h.twist = f
}

// Handler answers below the path of the issuer.
func (h *House) Handler() http.Handler {
	u, _ := url.Parse(h.issuer)
	mux := http.NewServeMux()
	mux.HandleFunc("GET "+u.Path+"/.well-known/openid-configuration", h.describe)
	mux.HandleFunc("GET "+u.Path+"/keys", h.keys)
	mux.HandleFunc("GET "+u.Path+"/enter", h.ask)
	mux.HandleFunc("POST "+u.Path+"/enter", h.enter)
	mux.HandleFunc("POST "+u.Path+"/token", h.token)
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		h.mu.Lock()
		away := h.away
		h.mu.Unlock()
		if away {
			http.Error(w, "closed", http.StatusServiceUnavailable)
			return
		}
		r.Body = http.MaxBytesReader(w, r.Body, 64<<10)
		mux.ServeHTTP(w, r)
	})
}

func answer(w http.ResponseWriter, status int, v any) {
	w.Header().Set("Content-Type", "application/json")
	w.Header().Set("Cache-Control", "no-store")
	w.WriteHeader(status)
	_ = json.NewEncoder(w).Encode(v)
}

func (h *House) describe(w http.ResponseWriter, _ *http.Request) {
	answer(w, http.StatusOK, map[string]any{
		"issuer": h.issuer, "authorization_endpoint": h.issuer + "/enter", "token_endpoint": h.issuer + "/token", "jwks_uri": h.issuer + "/keys",
		"response_types_supported": []string{"code"}, "subject_types_supported": []string{"public"}, "id_token_signing_alg_values_supported": []string{"ES256"},
		"code_challenge_methods_supported": []string{"S256"}, "scopes_supported": []string{"openid", "profile", "groups"},
	})
}

func (h *House) keys(w http.ResponseWriter, _ *http.Request) {
	h.mu.Lock()
	defer h.mu.Unlock()
	answer(w, http.StatusOK, jose.JSONWebKeySet{Keys: []jose.JSONWebKey{{Key: &h.key.PublicKey, KeyID: h.keyID, Algorithm: "ES256", Use: "sig"}}})
}

//go:embed page.html
var page string

var shown = template.Must(template.New("page").Parse(page))

// wrong says what of a request of a client cannot be; empty: nothing.
func (h *House) wrong(q url.Values) string {
	to, err := url.Parse(q.Get("redirect_uri"))
	if err != nil {
		return "redirect_uri is no address"
	}
	switch {
	case to.Scheme != "http" || !endpoint.OnLoopback(to.Hostname()):
		return "this stand-in sends people to loopback alone"
	case q.Get("client_id") != h.client:
		return "the client is not known"
	case q.Get("response_type") != "code" || q.Get("code_challenge_method") != "S256" || q.Get("code_challenge") == "":
		return "a code with PKCE (S256) is expected"
	}
	return ""
}

// ask shows the people, to choose one.
func (h *House) ask(w http.ResponseWriter, r *http.Request) {
	q := r.URL.Query()
	if wrong := h.wrong(q); wrong != "" {
		http.Error(w, wrong, http.StatusBadRequest)
		return
	}
	w.Header().Set("Content-Type", "text/html; charset=utf-8")
	_ = shown.Execute(w, map[string]any{"People": h.people, "Query": template.URL("?" + r.URL.RawQuery)})
}

// enter sends who was chosen back, with a code.
func (h *House) enter(w http.ResponseWriter, r *http.Request) {
	q := r.URL.Query()
	at := slices.IndexFunc(h.people, func(p Person) bool { return p.Name == r.PostFormValue("person") })
	if wrong := h.wrong(q); wrong != "" || at < 0 {
		http.Error(w, "choose one of the people; "+wrong, http.StatusBadRequest)
		return
	}
	code, now := rand.Text(), time.Now()
	h.mu.Lock()
	for old, e := range h.codes {
		if e.until.Before(now) || len(h.codes) >= mostCodes {
			delete(h.codes, old)
		}
	}
	h.codes[code] = &entry{person: h.people[at], redirect: q.Get("redirect_uri"), nonce: q.Get("nonce"), challenge: q.Get("code_challenge"), until: now.Add(codeLives), authenticated: now}
	h.mu.Unlock()
	to, _ := url.Parse(q.Get("redirect_uri"))
	back := to.Query()
	back.Set("code", code)
	back.Set("state", q.Get("state"))
	to.RawQuery = back.Encode()
	http.Redirect(w, r, to.String(), http.StatusSeeOther)
}

// token gives an ID token for a code, once.
func (h *House) token(w http.ResponseWriter, r *http.Request) {
	h.mu.Lock()
	defer h.mu.Unlock()
	code := r.PostFormValue("code")
	e := h.codes[code]
	delete(h.codes, code)
	verifier := sha256.Sum256([]byte(r.PostFormValue("code_verifier")))
	if e == nil || e.until.Before(time.Now()) || e.redirect != r.PostFormValue("redirect_uri") || e.challenge != base64.RawURLEncoding.EncodeToString(verifier[:]) {
		answer(w, http.StatusBadRequest, map[string]any{"error": "invalid_grant"})
		return
	}
	now := time.Now()
	subject := sha256.Sum256([]byte(e.person.Name))
	claims := map[string]any{"iss": h.issuer, "aud": h.client, "sub": base64.RawURLEncoding.EncodeToString(subject[:12]), "iat": now.Unix(), "exp": now.Add(tokenLives).Unix(), "auth_time": e.authenticated.Unix(),
		"nonce": e.nonce, "preferred_username": e.person.Name, "groups": e.person.Groups}
	if h.twist != nil {
		h.twist(claims)
	}
	text, err := h.sign(claims)
	if err != nil {
		answer(w, http.StatusInternalServerError, map[string]any{"error": "server_error"})
		return
	}
	answer(w, http.StatusOK, map[string]any{"access_token": rand.Text(), "token_type": "Bearer", "expires_in": int(tokenLives.Seconds()), "id_token": text})
}

// sign returns claims as a signed token. It is called with mu held.
func (h *House) sign(claims map[string]any) (string, error) {
	signer, err := jose.NewSigner(jose.SigningKey{Algorithm: jose.ES256, Key: jose.JSONWebKey{Key: h.key, KeyID: h.keyID}}, nil)
	if err != nil {
		return "", err
	}
	b, err := json.Marshal(claims)
	if err != nil {
		return "", err
	}
	signed, err := signer.Sign(b)
	if err != nil {
		return "", err
	}
	return signed.CompactSerialize()
}

// Leave is a token that says that somebody has gone, as providers send it to whom they have
// vouched for them to.
func (h *House) Leave(name string) (string, error) {
	h.mu.Lock()
	defer h.mu.Unlock()
	now := time.Now()
	subject := sha256.Sum256([]byte(name))
	claims := map[string]any{"iss": h.issuer, "aud": h.client, "sub": base64.RawURLEncoding.EncodeToString(subject[:12]), "iat": now.Unix(), "exp": now.Add(tokenLives).Unix(), "jti": rand.Text(),
		"events": map[string]any{"http://schemas.openid.net/event/backchannel-logout": map[string]any{}}}
	if h.twist != nil {
		h.twist(claims)
	}
	return h.sign(claims)
}
