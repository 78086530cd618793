package api

import "time"

// Team is a group of people who work on cases together. Its people have their role of the team in all of its cases.
type Team struct {
	Name   string `json:"name"`
	Role   string `json:"role" enum:"lead,member,viewer" doc:"the asking person's role"`
	People int    `json:"people"`
	Cases  int    `json:"cases"`
}

// NewTeam is a request to make a team, which the person then leads.
type NewTeam struct {
	Name string `json:"name" pattern:"^[a-z0-9][a-z0-9-]{0,62}$" doc:"short name"`
}

// CaseTeam is a team that a case belongs to.
type CaseTeam struct {
	Name   string `json:"name"`
	People int    `json:"people"`
}

// NewInvitation is a request for a link by which people join a case or a team.
type NewInvitation struct {
	Role     string `json:"role" required:"false" enum:"lead,member,viewer" default:"member"`
	Unmasks  bool   `json:"unmasks,omitempty" doc:"whether who joins may see what is masked"`
	Days     int    `json:"days" required:"false" minimum:"1" maximum:"90" default:"7" doc:"days until it expires"`
	Places   int    `json:"places" required:"false" minimum:"1" maximum:"1000" default:"1" doc:"how many people may use it"`
	Accounts bool   `json:"accounts,omitempty" doc:"whoever has no account may make one; administrators alone may allow that"`
}

// Invitation is a link by which people join a case or a team. Secret is set only in the answer that creates it: the link is the service's address
// with /join#SECRET.
type Invitation struct {
	ID       int64     `json:"id"`
	Role     string    `json:"role" enum:"lead,member,viewer"`
	Unmasks  bool      `json:"unmasks,omitempty"`
	Places   int       `json:"places" doc:"how many people may still use it"`
	Accounts bool      `json:"accounts,omitempty"`
	By       string    `json:"by"`
	Created  time.Time `json:"created"`
	Expires  time.Time `json:"expires"`
	Secret   string    `json:"secret,omitempty"`
}

// InvitationSecret is the secret of an invitation.
type InvitationSecret struct {
	Secret string `json:"secret" minLength:"1" maxLength:"200"`
}

// Invited is what an invitation is to. Case or Team is empty; Case is how the person calls the case, once it is accepted.
type Invited struct {
	Case     string    `json:"case,omitempty"`
	Title    string    `json:"title,omitempty"`
	Team     string    `json:"team,omitempty"`
	Role     string    `json:"role" enum:"lead,member,viewer"`
	By       string    `json:"by"`
	Expires  time.Time `json:"expires"`
	Accounts bool      `json:"accounts,omitempty"`
}
