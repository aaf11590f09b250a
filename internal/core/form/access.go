package form

import "time"

// Secret describes a token, a session or a link in force, without telling it.
type Secret struct {
	ID        string     `json:"id"`
	Kind      string     `json:"kind"` // token, session, link
	Principal string     `json:"principal"`
	Label     string     `json:"label"`
	CreatedAt time.Time  `json:"createdAt"`
	ExpiresAt *time.Time `json:"expiresAt,omitempty"` // by itself
	Own       bool       `json:"own"`                 // it is the one of this request
}

// NewToken asks for a token.
type NewToken struct {
	Label   string `json:"label"`             // what it is for
	Expires string `json:"expires,omitempty"` // a duration; left out, it does not expire
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
	Name  string   `json:"name"`
	Roles []string `json:"roles"` // ROLE on PATTERN each
}

// Link is a way to sign in once.
type Link struct {
	Path      string    `json:"path"`
	ExpiresAt time.Time `json:"expiresAt"`
}
