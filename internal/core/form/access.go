package form

import (
	"encoding/json"
	"time"
)

// Secret describes a token, a session or a link in force, without telling it.
type Secret struct {
	ID        string     `json:"id"`
	Kind      string     `json:"kind"` // token, session, link
	Principal string     `json:"principal"`
	Label     string     `json:"label"`
	Role      string     `json:"role,omitempty"` // all that it is good for is this role
	On        string     `json:"on,omitempty"`   // on what this covers
	CreatedAt time.Time  `json:"createdAt"`
	ExpiresAt *time.Time `json:"expiresAt,omitempty"` // by itself
	UsedAt    *time.Time `json:"usedAt,omitempty"`    // last, to a few minutes
	Own       bool       `json:"own"`                 // it is the one of this request
}

// NewToken asks for a token.
type NewToken struct {
	Principal string `json:"principal,omitempty"` // left out, it is for whoever asks
	Label     string `json:"label"`               // what it is for
	Role      string `json:"role,omitempty"`      // all that it is good for; left out, all that the principal may
	On        string `json:"on,omitempty"`        // the pattern of what it is good for the role on
	Expires   string `json:"expires,omitempty"`   // a duration; left out, it does not expire
}

// Token is a token that was just made. It is told only once.
type Token struct {
	Secret
	Token string `json:"token"`
}

// Revoked tells how many were.
type Revoked struct {
	Revoked int `json:"revoked"`
}

// SignIn is the principal of a session or token.
type SignIn struct {
	Name       string   `json:"name"`
	Roles      []string `json:"roles"`      // ROLE on PATTERN each
	Everywhere []string `json:"everywhere"` // the verbs that it may on everything
	Somewhere  []string `json:"somewhere"`  // the verbs that it may on something
	Opens      []string `json:"opens"`      // patterns on which it may break the glass
	Account    bool     `json:"account"`    // it has come with its account
}

// SignInWays are the ways to sign in, beside a token.
type SignInWays struct {
	Providers []SignInProvider `json:"providers"`
	Accounts  bool             `json:"accounts"` // people have accounts here
	Tokens    bool             `json:"tokens"`   // the console takes a token
}

// Entering is what somebody proves with that an account is theirs.
type Entering struct {
	Name     string `json:"name"`
	Password string `json:"password"`
	Code     string `json:"code"`
}

// NewAccount asks for the account of a person.
type NewAccount struct {
	Principal string `json:"principal"`
}

// Invitation lets somebody begin an account, once. It is told once.
type Invitation struct {
	Path      string    `json:"path"` // of the console
	ExpiresAt time.Time `json:"expiresAt"`
}

// Invited is what whoever comes with an invitation needs.
type Invited struct {
	Name    string `json:"name"`
	Secret  string `json:"secret"`  // by which an app makes codes, in base32
	URI     string `json:"uri"`     // the same, as apps read it
	Picture []byte `json:"picture"` // of that, as PNG
}

// Accepting gives an account its password.
type Accepting struct {
	Invitation string `json:"invitation"`
	Password   string `json:"password"`
	Code       string `json:"code"`
}

// Strength is how hard a password is to guess.
type Strength struct {
	Score int    `json:"score"` // 0 to 4
	Says  string `json:"says"`
	Taken bool   `json:"taken"`
	Why   string `json:"why,omitempty"` // it is not
}

// Second is something that was asked for and takes a second person.
type Second struct {
	ID        int64     `json:"id"`
	Who       string    `json:"who"` // has asked for it
	Verb      string    `json:"verb"`
	Address   string    `json:"address"` // at which that takes a second person
	Says      string    `json:"says"`    // what was asked for
	AskedAt   time.Time `json:"askedAt"`
	Until     time.Time `json:"until"`
	State     string    `json:"state"` // waiting, begun, done, failed, declined, over
	DecidedBy string    `json:"decidedBy,omitempty"`
	Outcome   string    `json:"outcome,omitempty"` // why it failed
	Mine      bool      `json:"mine"`              // whoever asks can be the second person

	Asked   json.RawMessage `json:"asked,omitempty"`   // the body of what was asked for; only when one is asked for
	Preview *Preview        `json:"preview,omitempty"` // what it would do now, if that can be told
}

// NewPassword gives an account another password.
type NewPassword struct {
	Password string `json:"password"` // until now
	Code     string `json:"code"`
	Next     string `json:"next"`
}

// SignInProvider is a place that vouches for people.
type SignInProvider struct {
	Provider string `json:"provider"`
	Label    string `json:"label"`
}

// DeviceCode is what a program has that waits for somebody to let it in, as RFC 8628 has it.
type DeviceCode struct {
	DeviceCode              string `json:"device_code"`
	UserCode                string `json:"user_code"`
	VerificationURI         string `json:"verification_uri"`
	VerificationURIComplete string `json:"verification_uri_complete"`
	ExpiresIn               int    `json:"expires_in"` // seconds
	Interval                int    `json:"interval"`   // seconds between two times that it asks
}

// DeviceToken is the session of a program that was let in.
type DeviceToken struct {
	AccessToken string `json:"access_token"`
	TokenType   string `json:"token_type"`
	ExpiresIn   int    `json:"expires_in"` // seconds, at most
}

// DeviceError is why a program is not let in yet: authorization_pending, slow_down,
// access_denied, expired_token, unsupported_grant_type.
type DeviceError struct {
	Error string `json:"error"`
}

// Device is a program that waits for somebody to let it in.
type Device struct {
	Code      string    `json:"code"`
	Name      string    `json:"name"`    // what it says that it is
	Address   string    `json:"address"` // from which it has asked
	ExpiresAt time.Time `json:"expiresAt"`
}

// DeviceDecision lets a program in, or does not.
type DeviceDecision struct {
	Let bool `json:"let"`
}

// Link is a way to sign in once.
type Link struct {
	Path      string    `json:"path"`
	ExpiresAt time.Time `json:"expiresAt"`
}

// Role is a set of verbs with a name.
type Role struct {
	Name        string   `json:"name"`
	Verbs       []string `json:"verbs"`
	Description string   `json:"description"`
	BuiltIn     bool     `json:"builtIn"` // it is always there, as it is
}

// Principal is a person or a machine, with what it was given: ROLE on PATTERN each.
type Principal struct {
	Name        string    `json:"name"`
	Kind        string    `json:"kind"` // person or machine
	Teams       []string  `json:"teams"`
	Brought     []string  `json:"brought"`           // teams in which its provider says that it is
	Provider    string    `json:"provider"`          // at which it signs in; empty: it has not yet
	Account     string    `json:"account,omitempty"` // that it has here: invited, over (the invitation), open; empty: none
	Paused      bool      `json:"paused"`            // it may do nothing for now
	Description string    `json:"description"`
	Roles       []string  `json:"roles"`
	CreatedAt   time.Time `json:"createdAt"`
	Uses        []Quota   `json:"uses,omitempty"` // what it uses of what it may, where that has a bound
}

// Grant is a role that was given to a principal, or to a team (team:NAME).
type Grant struct {
	Name      string    `json:"name"`
	To        string    `json:"to"`
	Role      string    `json:"role"`
	On        string    `json:"on"`
	Until     string    `json:"until"` // empty: it has no end
	Why       string    `json:"why"`
	Opens     bool      `json:"opens"`  // who has it may break the glass there
	Second    bool      `json:"second"` // what is dangerous of it takes a second person
	CreatedAt time.Time `json:"createdAt"`
}

// BreakGlass is that somebody wants to see what is in messages for a while.
type BreakGlass struct {
	On  string `json:"on"` // a pattern
	Why string `json:"why"`
}

// Mask is fields of messages that are hidden from some roles.
type Mask struct {
	Name        string    `json:"name"`
	On          string    `json:"on"`
	Fields      []string  `json:"fields"` // key, header.NAME, or a JSON Pointer into the body
	Show        string    `json:"show"`   // hidden, shortened or hashed
	For         []string  `json:"for"`    // roles
	Description string    `json:"description"`
	CreatedAt   time.Time `json:"createdAt"`
}

// May is whether a principal may do a verb at an address, and by which grants.
type May struct {
	Principal string  `json:"principal"`
	Verb      string  `json:"verb"`
	Address   string  `json:"address"`
	May       bool    `json:"may"`
	Says      string  `json:"says"` // in a sentence
	By        []Grant `json:"by"`
}
