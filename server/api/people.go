package api

// MeOut is who is signed in.
type MeOut struct {
	Name     string `json:"name"`
	Role     string `json:"role"`     // look, work or collect
	Owner    bool   `json:"owner"`    // may manage people
	Password bool   `json:"password"` // has one
}

// EnterIn is a link for signing in once.
type EnterIn struct {
	Link string `json:"link"`
}

// SignInIn is a name with its password.
type SignInIn struct {
	Name     string `json:"name"`
	Password string `json:"password"`
}

// ChangeMeIn is what to change of oneself; what is empty stays.
type ChangeMeIn struct {
	Name     string `json:"name"`
	Password string `json:"password"`
	Before   string `json:"before"` // the password until now
	// EndTokens: with a new password all tokens end, too.
	EndTokens bool `json:"end_tokens"`
}

// TokenIn is a token to make.
type TokenIn struct {
	Name string `json:"name"`
	Role string `json:"role"`
}

// TokenOut is a token without its secret.
type TokenOut struct {
	ID        int64  `json:"id"`
	Name      string `json:"name"`
	Role      string `json:"role"`
	CreatedAt string `json:"created_at"`
	UsedAt    string `json:"used_at"` // "": never
}

// TokensOut are one's own tokens.
type TokensOut struct {
	Tokens []TokenOut `json:"tokens"`
}

// NewTokenOut is a new token, with its secret this once.
type NewTokenOut struct {
	Token  TokenOut `json:"token"`
	Secret string   `json:"secret"`
}

// PersonIn is a person to add.
type PersonIn struct {
	Name  string `json:"name"`
	Role  string `json:"role"`
	Owner bool   `json:"owner"`
}

// PersonChangeIn is what to change of a person; what is absent stays.
type PersonChangeIn struct {
	Role     *string `json:"role"`
	Owner    *bool   `json:"owner"`
	Disabled *bool   `json:"disabled"`
}

// PersonOut is a person.
type PersonOut struct {
	ID       int64  `json:"id"`
	Name     string `json:"name"`
	Role     string `json:"role"`
	Owner    bool   `json:"owner"`
	Disabled bool   `json:"disabled"`
	Password bool   `json:"password"` // has one
	SeenAt   string `json:"seen_at"`  // "": never
}

// PeopleOut is everybody.
type PeopleOut struct {
	People []PersonOut `json:"people"`
}

// PersonLinkOut is a person with a link to sign in by once.
type PersonLinkOut struct {
	Person PersonOut `json:"person"`
	Path   string    `json:"path"` // of the link on this server
	Hours  float64   `json:"hours"`
}

// EventOut is a line of the audit list.
type EventOut struct {
	ID     int64             `json:"id"`
	At     string            `json:"at"`
	Who    string            `json:"who"`
	Source string            `json:"source"`
	What   string            `json:"what"`
	Detail map[string]string `json:"detail"`
}

// AuditOut is the audit list, the newest first.
type AuditOut struct {
	Events []EventOut `json:"events"`
}
