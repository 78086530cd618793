// Package api holds the types that the service and its client share: people, cases, evidence,
// checkpoints, sittings and errors. The types of questions are in core/ask.
package api

import (
	"encoding/json"
	"time"

	"wraithology/core/ask"
	"wraithology/core/event"
	"wraithology/core/mask"
)

// Person is a user of the service.
type Person struct {
	Name  string `json:"name"`
	Admin bool   `json:"admin"`
	// Mail is the person's own mail address; others do not see it.
	Mail string `json:"mail,omitempty"`
}

// PersonChange sets the mail address of a person; empty for none.
type PersonChange struct {
	Mail string `json:"mail" maxLength:"254"`
}

// Credentials are the name and password of a person.
type Credentials struct {
	Name     string `json:"name" minLength:"1" maxLength:"64"`
	Password string `json:"password" minLength:"1" maxLength:"1024"`
}

// Token lets programs act for a person. Secret is set only in the answer that creates it.
// SignInWays say how people sign in, besides by a password. OpenID is the name of the OpenID provider, empty if there is none.
type SignInWays struct {
	OpenID string `json:"openid"`
}

// NewToken is a request for a token for a program.
type NewToken struct {
	Label string `json:"label" maxLength:"200"`
	Scope string `json:"scope,omitempty" enum:"read,write,ingest" default:"write" doc:"what a program may do with it: read, write, or ingest, which adds evidence"`
	Days  int    `json:"days,omitempty" minimum:"0" maximum:"3660" doc:"days until it expires; 0 for never"`
}

type Token struct {
	ID      int64      `json:"id"`
	Label   string     `json:"label"`
	Scope   string     `json:"scope" enum:"read,write,ingest"`
	Secret  string     `json:"secret,omitempty"`
	Created time.Time  `json:"created"`
	Expires *time.Time `json:"expires,omitempty"`
	Used    *time.Time `json:"used,omitempty" doc:"when it was used last, to the minute"`
}

// Deleted is evidence or an artifact that can be restored.
type Deleted struct {
	Kind  string    `json:"kind" enum:"evidence,artifact"`
	Name  string    `json:"name"`
	Bytes int64     `json:"bytes"`
	By    string    `json:"by"`
	At    time.Time `json:"at"`
}

// Retention is after how many days evidence of a case is deleted; 0 for never.
type Retention struct {
	Days int `json:"days" minimum:"0" maximum:"36500"`
}

// PasswordChange sets a new password.
type PasswordChange struct {
	Old string `json:"old" minLength:"1" maxLength:"1024"`
	New string `json:"new" minLength:"1" maxLength:"1024"`
}

// Session is a browser that is signed in.
type Session struct {
	ID      int64     `json:"id"`
	Created time.Time `json:"created"`
	Used    time.Time `json:"used"`
	Expires time.Time `json:"expires"`
}

// Sender is a token with which programs send spans and logs into a case. It permits nothing else.
// Secret is set only in the answer that creates it.
type Sender struct {
	ID      int64     `json:"id"`
	Case    string    `json:"case"`
	Label   string    `json:"label"`
	By      string    `json:"by"`
	Created time.Time `json:"created"`
	Secret  string    `json:"secret,omitempty"`
}

// Reading says how to read evidence that its bytes do not identify: as which kind, and for a log
// the meaning of its fields.
type Reading struct {
	As     string
	Fields map[string]string
}

// Alike is evidence with the same failure, or a similar one, and what its case found. Score is from 0 to 1.
type Alike struct {
	Case     string       `json:"case"`
	Title    string       `json:"title"`
	Closed   *time.Time   `json:"closed,omitempty"`
	Cause    string       `json:"cause,omitempty"`
	Same     bool         `json:"same"`
	Score    float64      `json:"score"`
	Evidence EvidenceInfo `json:"evidence"`
}

// Roles of a member of a case.
const (
	RoleLead   = "lead"   // can add and remove members
	RoleMember = "member" // can add evidence and checkpoints
	RoleViewer = "viewer" // can read
)

// Member is a person's role in a case.
type Member struct {
	Name string `json:"name"`
	Role string `json:"role" enum:"lead,member,viewer"`
	// Unmasks is set if the member may see what is masked.
	Unmasks bool `json:"unmasks,omitempty"`
	// Teams are those by which the member is in the case; their roles count too.
	Teams []string `json:"teams,omitempty"`
}

// MemberChange adds a member or changes what a member may. Members that are nil stay as they are.
type MemberChange struct {
	Role    string `json:"role" enum:"lead,member,viewer"`
	Unmasks *bool  `json:"unmasks,omitempty" doc:"whether the member may see what is masked"`
}

// Masking are the rules for masking of a case.
type Masking struct {
	mask.Rules
	// Evidence is how many pieces of evidence are indexed again with the rules.
	Evidence int `json:"evidence,omitempty" readOnly:"true"`
}

// Sizes of pages. MembersOfListed limits the members of a case in a list of cases, and MembersOfOne those in the answer about one case.
const (
	CasesOfPage     = 200
	RecordsOfPage   = 200 // evidence, artifacts, checkpoints
	MembersOfPage   = 500
	CustodyOfPage   = 200
	MembersOfListed = 6
	MembersOfOne    = 50
)

// Case is one investigation.
type Case struct {
	Name    string    `json:"name"`
	Title   string    `json:"title"`
	Created time.Time `json:"created"`
	Role    string    `json:"role" doc:"the asking person's role"`
	Unmasks bool      `json:"unmasks,omitempty" doc:"whether the asking person may see what is masked"`
	Members []Member  `json:"members" doc:"some of them: up to 50 of one case, up to 6 in a list of cases"`
	// Closed is when the case was closed, with its cause; nil while it is open.
	Closed   *time.Time `json:"closed,omitempty"`
	ClosedBy string     `json:"closedBy,omitempty"`
	Cause    string     `json:"cause,omitempty"`
}

// Closing is a request to close a case.
type Closing struct {
	Cause string `json:"cause" minLength:"1" maxLength:"10000" doc:"what caused the failure, and what cured it"`
}

// KeptExpectation is an expectation of a case, or of a file, where ID is its position.
type KeptExpectation struct {
	ID int64 `json:"id"`
	ask.Expectation
	By      string    `json:"by,omitempty"`
	Created time.Time `json:"created,omitzero"`
}

// ExpectationChange changes an expectation. Members that are nil stay as they are.
type ExpectationChange struct {
	Checkpoint *string `json:"checkpoint,omitempty" minLength:"1" maxLength:"3000"`
	When       *string `json:"when,omitempty" maxLength:"2000"`
	That       *string `json:"that,omitempty" minLength:"1" maxLength:"2000"`
	Note       *string `json:"note,omitempty" maxLength:"2000"`
}

// Checks are the expectations and checkpoints of a case, and what each piece of its evidence answers to them.
type Checks struct {
	Expectations []KeptExpectation `json:"expectations"`
	Checkpoints  []Checkpoint      `json:"checkpoints"`
	Evidence     []CheckedIn       `json:"evidence"`
	// Elsewhere is evidence of the same program in other cases of the person who asks: what the newest 1,000 answers are of.
	Elsewhere []CheckedIn `json:"elsewhere"`
}

// CheckedIn is what a piece of evidence answers, in the order of the expectations and checkpoints; null while it is not
// known. Again is set if an expectation breaks in evidence that was added after the case was closed. Case is the case of
// the evidence, if it is another one.
type CheckedIn struct {
	Case     string          `json:"case,omitempty"`
	Name     string          `json:"name"`
	Program  string          `json:"program"`
	Outcome  string          `json:"outcome"`
	State    string          `json:"state" enum:"indexing,ready,failed"`
	Uploaded time.Time       `json:"uploaded"`
	Again    bool            `json:"again"`
	Broken   int             `json:"broken"`
	Checks   []*ask.Checked  `json:"checks"`
	Counts   []*CheckpointIn `json:"counts"`
}

// CheckpointIn is how often a checkpoint hits in a piece of evidence.
type CheckpointIn struct {
	Hits      int64  `json:"hits"`
	Undecided int64  `json:"undecided"`
	Trouble   string `json:"trouble,omitempty"`
}

// NewCase is a request to open a case.
type NewCase struct {
	Name  string `json:"name" pattern:"^[a-z0-9][a-z0-9-]{0,62}$" doc:"short name for links and locators"`
	Title string `json:"title" maxLength:"200"`
}

// States of evidence.
const (
	StateIndexing = "indexing"
	StateReady    = "ready"
	StateFailed   = "failed"
)

// EvidenceInfo describes evidence of a case. Progress is the share of the
// indexing that is done, between 0 and 1.
type EvidenceInfo struct {
	Name       string    `json:"name"`
	Kind       string    `json:"kind"`
	Bytes      int64     `json:"bytes"`
	SHA256     string    `json:"sha256"`
	Uploaded   time.Time `json:"uploaded"`
	By         string    `json:"by"`
	State      string    `json:"state" enum:"indexing,ready,failed"`
	Progress   float64   `json:"progress"`
	Trouble    string    `json:"trouble"`
	Program    string    `json:"program"`
	BuildID    string    `json:"buildID"`
	Host       string    `json:"host"`
	Started    time.Time `json:"started"`
	DurationNs int64     `json:"durationNs"`
	Moments    int64     `json:"moments"`
	Outcome    string    `json:"outcome" doc:"one line on how the program ended"`
	Gaps       int       `json:"gaps"`
	// Fingerprint is equal for failures of the same kind at the same place. ClockOffsetNs is how
	// far the evidence's clock is behind the clock of the case.
	Fingerprint   string `json:"fingerprint,omitempty"`
	ClockOffsetNs int64  `json:"clockOffsetNs"`
	// Explained is set for kinds of evidence that artifacts explain: binaries, debug files, source
	// text.
	Explained bool `json:"explained,omitempty"`
	// Broken is the number of the case's expectations that break. Again is set if some do and the case was closed before.
	Broken int  `json:"broken,omitempty"`
	Again  bool `json:"again,omitempty"`
	// Known are expectations of other cases of the person who asks that break in this evidence.
	Known []KnownBreak `json:"known,omitempty"`
}

// KnownBreak is an expectation of another case that breaks in evidence, and the cause that the case was closed with.
type KnownBreak struct {
	Case       string     `json:"case"`
	Title      string     `json:"title"`
	Closed     *time.Time `json:"closed,omitempty"`
	Cause      string     `json:"cause,omitempty"`
	Checkpoint string     `json:"checkpoint"`
	That       string     `json:"that"`
	Note       string     `json:"note,omitempty"`
	Breaks     int        `json:"breaks"`
	Hits       int        `json:"hits"`
}

// Checkpoint is a checkpoint of a case.
type Checkpoint struct {
	ID       int64     `json:"id"`
	On       string    `json:"on" doc:"what it is on, as questions take it"`
	Label    string    `json:"label" doc:"what it is on, for people"`
	Kind     string    `json:"kind"`
	File     string    `json:"file"`
	Line     int       `json:"line"`
	Text     string    `json:"text" doc:"the source text of the line when it was set"`
	Function string    `json:"function" doc:"the function that is entered or returns"`
	About    string    `json:"about" doc:"the text that an error or output must have in it; the path that is written to"`
	Evidence string    `json:"evidence" doc:"for writes: the evidence, and where in it the path is reached"`
	Moment   int64     `json:"moment"`
	Frame    int       `json:"frame"`
	When     string    `json:"when"`
	Nth      string    `json:"nth" doc:"which of the hits count: 5, every 100, last, last before 4711; empty for all"`
	Thread   uint32    `json:"thread" doc:"hits on this thread only; 0 for any"`
	Listing  bool      `json:"listing" doc:"replay does not halt at it"`
	Show     []string  `json:"show" doc:"expressions that are shown at each hit"`
	Enabled  bool      `json:"enabled"`
	Private  bool      `json:"private" doc:"only its person sees it and halts at it"`
	By       string    `json:"by"`
	Created  time.Time `json:"created"`
}

// NewCheckpoint is a request to set a checkpoint. For a checkpoint on writes, Moment, Thread and
// Frame are the place in Evidence from which its path is reached.
type NewCheckpoint struct {
	On       string   `json:"on" maxLength:"3000" doc:"what it is on: a kind, then what it is about: line FILE:N, enter FUNCTION, return FUNCTION, error [TEXT], output [TEXT], write PATH"`
	Evidence string   `json:"evidence,omitempty" doc:"evidence in which the place is looked up; the newest if left off"`
	Moment   int64    `json:"moment,omitempty" minimum:"0"`
	Thread   uint32   `json:"thread,omitempty" doc:"of the place, or of the hits that count; 0 for any"`
	Frame    int      `json:"frame,omitempty" minimum:"0" maximum:"2147483647"`
	When     string   `json:"when,omitempty" maxLength:"2000"`
	Nth      string   `json:"nth,omitempty" maxLength:"64"`
	Listing  bool     `json:"listing,omitempty"`
	Show     []string `json:"show,omitempty" maxItems:"16"`
	Private  bool     `json:"private,omitempty" doc:"only its person sees it and halts at it"`
}

// CheckpointChange changes a checkpoint. Members that are nil stay as they are.
type CheckpointChange struct {
	When    *string   `json:"when,omitempty" maxLength:"2000"`
	Nth     *string   `json:"nth,omitempty" maxLength:"64"`
	Listing *bool     `json:"listing,omitempty"`
	Show    *[]string `json:"show,omitempty" maxItems:"16"`
	Enabled *bool     `json:"enabled,omitempty"`
}

// CheckpointSwitch enables or disables all checkpoints of a case at once.
type CheckpointSwitch struct {
	Enabled bool `json:"enabled"`
}

// Modes of a person in a sitting.
const (
	ModeLead   = "lead"
	ModeFollow = "follow"
	ModeRoam   = "roam"
)

// Place is a place in a sitting.
type Place struct {
	Moment event.Moment   `json:"moment" minimum:"0"`
	Thread event.ThreadID `json:"thread"`
	Frame  int            `json:"frame" minimum:"0" maximum:"2147483647"`
}

// Attendee is a person in a sitting. Place is the place that the person looks at; Pointing is what the person points at, which
// belongs to that place. Asks is set while the person asks for the lead.
type Attendee struct {
	Name     string    `json:"name"`
	Mode     string    `json:"mode" enum:"lead,follow,roam"`
	Place    Place     `json:"place"`
	Pointing *Pointing `json:"pointing,omitempty"`
	Asks     bool      `json:"asks,omitempty"`
	MayLead  bool      `json:"mayLead"`
}

// Pointing is what a person points at: the path of a value, a line FILE:N, or the number of a frame.
type Pointing struct {
	Kind string `json:"kind" enum:"value,line,frame"`
	At   string `json:"at" maxLength:"500"`
}

// Sitting is a shared replay. Version increases with every move. Leader is empty if nobody leads; it stays for 30 seconds when
// the lead disappears (Away), and is then handed to somebody who follows: first to who asks for it, then to who is here longest.
type Sitting struct {
	ID       int64      `json:"id"`
	Case     string     `json:"case"`
	Evidence string     `json:"evidence"`
	Place    Place      `json:"place"`
	Version  int64      `json:"version"`
	Leader   string     `json:"leader,omitempty"`
	Away     bool       `json:"away,omitempty"`
	Watches  []string   `json:"watches"`
	Columns  []string   `json:"columns" doc:"of the shared ledger"`
	Format   string     `json:"format" doc:"of whole numbers; empty for decimal"`
	Here     []Attendee `json:"here"`
}

// SittingChange moves the person who sends it, or changes that person's mode. Members that are nil change nothing.
type SittingChange struct {
	Mode  string `json:"mode,omitempty" enum:"lead,follow,roam"`
	Place *Place `json:"place,omitempty"`
	// Seen is the version that the person saw. A lead who moves a sitting that has moved meanwhile gets an error; 0 moves it anyhow.
	Seen     int64     `json:"seen,omitempty" minimum:"0"`
	Pointing *Pointing `json:"pointing,omitempty"`
	// Asks for the lead, or withdraws that.
	Asks *bool `json:"asks,omitempty"`
	// HandTo gives the lead to somebody who is here. Only the lead can.
	HandTo  string    `json:"handTo,omitempty" maxLength:"200"`
	Watches *[]string `json:"watches,omitempty" maxItems:"50" doc:"shared expressions"`
	Columns *[]string `json:"columns,omitempty" maxItems:"50" doc:"expressions of the shared ledger"`
	Format  *string   `json:"format,omitempty" enum:",decimal,hex,binary,character,bytes,nanoseconds,time" doc:"how whole numbers are written for all; empty for decimal"`
}

// Kinds of steps in a sitting.
const (
	StepMove  = "move"
	StepLead  = "lead"
	StepWatch = "watch"
	StepTable = "table"
	StepWrite = "write"
	StepJoin  = "join"
	StepSay   = "say"
)

// SittingStep is what a person did in a sitting: moved it, led it, changed what is watched, joined, or said something.
type SittingStep struct {
	ID    int64     `json:"id"`
	By    string    `json:"by"`
	At    time.Time `json:"at"`
	Kind  string    `json:"kind" enum:"move,lead,watch,join,say"`
	Place Place     `json:"place"`
	Text  string    `json:"text,omitempty"`
}

// NewSay is something to say in a sitting.
type NewSay struct {
	Text string `json:"text" minLength:"1" maxLength:"2000"`
}

// Exhibit is the answer to a question, kept as it was seen, with the place that it is about.
type Exhibit struct {
	ID       int64           `json:"id"`
	Evidence string          `json:"evidence"`
	Question string          `json:"question" doc:"the question, as values, stack, ask, origin, ledger or trace"`
	Request  json.RawMessage `json:"request" doc:"the request of the question"`
	Answer   json.RawMessage `json:"answer" doc:"the answer, as it was then"`
	Markdown string          `json:"markdown" doc:"the answer for people, as Markdown"`
	HTML     string          `json:"html" doc:"the same as safe HTML"`
	Place    Place           `json:"place"`
	Note     string          `json:"note"`
	By       string          `json:"by"`
	Created  time.Time       `json:"created"`
}

// Withheld is in the place of an answer that is not shown, with the reason.
type Withheld struct {
	Withheld string `json:"withheld"`
}

// ExhibitNote is the new note of an exhibit.
type ExhibitNote struct {
	Note string `json:"note" maxLength:"10000"`
}

// Seen names the last entry that a person has seen.
type Seen struct {
	Upto int64 `json:"upto" minimum:"0"`
}

// NewExhibit is a request to keep the answer to a question.
type NewExhibit struct {
	Evidence string          `json:"evidence" minLength:"1" maxLength:"200"`
	Question string          `json:"question" minLength:"1" maxLength:"50"`
	Request  json.RawMessage `json:"request,omitempty" doc:"the request of the question; what it leaves off has its default"`
	Note     string          `json:"note,omitempty" maxLength:"10000"`
}

// Anchor is what a comment is about. All members are empty for the case itself.
type Anchor struct {
	Evidence string        `json:"evidence,omitempty" maxLength:"200"`
	Moment   *event.Moment `json:"moment,omitempty" minimum:"0"`
	// Until is the last moment of a span that begins at Moment.
	Until  *event.Moment  `json:"until,omitempty" minimum:"0"`
	Thread event.ThreadID `json:"thread,omitempty"`
	Frame  int            `json:"frame,omitempty" minimum:"0" maximum:"2147483647"`
	// Path is the value, File and Line the line of source text, Exhibit the exhibit.
	Path    string `json:"path,omitempty" maxLength:"500"`
	File    string `json:"file,omitempty" maxLength:"1000"`
	Line    int    `json:"line,omitempty" minimum:"0" maximum:"2147483647"`
	Exhibit int64  `json:"exhibit,omitempty"`
}

// Comment is what somebody said about a case, or a part of it. Text is Markdown (CommonMark), HTML its safe rendering. Both are
// empty once it is deleted.
type Comment struct {
	ID       int64      `json:"id"`
	Parent   int64      `json:"parent,omitempty"`
	Anchor   Anchor     `json:"anchor"`
	Text     string     `json:"text"`
	HTML     string     `json:"html"`
	Mentions []string   `json:"mentions"`
	By       string     `json:"by"`
	Created  time.Time  `json:"created"`
	Edited   *time.Time `json:"edited,omitempty"`
	Deleted  *time.Time `json:"deleted,omitempty"`
}

// NewComment is a request to say something. "@Name" mentions a member of the case.
type NewComment struct {
	Parent int64  `json:"parent,omitempty"`
	Anchor Anchor `json:"anchor,omitzero"`
	Text   string `json:"text" minLength:"1" maxLength:"20000"`
}

// CommentText is the new text of a comment.
type CommentText struct {
	Text string `json:"text" minLength:"1" maxLength:"20000"`
}

// Version is what a comment said before a change.
type Version struct {
	At   time.Time `json:"at"`
	Text string    `json:"text"`
}

// Mention is a comment that mentions the person who asks.
type Mention struct {
	ID      int64   `json:"id" doc:"increases with time, over all cases"`
	Case    string  `json:"case"`
	Comment Comment `json:"comment"`
}

// States of a theory.
const (
	TheoryOpen      = "open"
	TheorySupported = "supported"
	TheoryRefuted   = "refuted"
)

// Theory is a suspected cause, with the exhibits that speak for it and against it.
type Theory struct {
	ID      int64     `json:"id"`
	Text    string    `json:"text"`
	State   string    `json:"state" enum:"open,supported,refuted"`
	Note    string    `json:"note"`
	For     []int64   `json:"for" doc:"exhibits"`
	Against []int64   `json:"against" doc:"exhibits"`
	By      string    `json:"by"`
	Created time.Time `json:"created"`
	Changed time.Time `json:"changed"`
}

// NewTheory is a request to add a theory.
type NewTheory struct {
	Text string `json:"text" minLength:"1" maxLength:"2000"`
	Note string `json:"note,omitempty" maxLength:"10000"`
}

// TheoryChange changes a theory. Members that are nil stay as they are.
type TheoryChange struct {
	Text  *string `json:"text,omitempty" minLength:"1" maxLength:"2000"`
	State *string `json:"state,omitempty" enum:"open,supported,refuted"`
	Note  *string `json:"note,omitempty" maxLength:"10000"`
}

// Activity is what changed in a case since the person was here last: Upto is the last entry of it, to be named when it was seen.
type Activity struct {
	Entries []ActivityEntry `json:"entries"`
	Upto    int64           `json:"upto"`
	More    bool            `json:"more"`
}

// ActivityEntry is something that somebody did.
type ActivityEntry struct {
	ID   int64     `json:"id"`
	At   time.Time `json:"at"`
	By   string    `json:"by"`
	What string    `json:"what"`
}

// HandOver is a note for the next shift, as Markdown: what is known, suspected, ruled out, and what to do next.
type HandOver struct {
	Text string `json:"text" minLength:"1" maxLength:"100000"`
}

// The kinds of artifact.
const (
	ArtifactBinary = "binary"
	ArtifactDebug  = "debug-file"
	ArtifactSource = "source"
)

// Artifact explains evidence of a case: a binary, a debug file, or source text.
type Artifact struct {
	Name     string    `json:"name"`
	Kind     string    `json:"kind"`
	Bytes    int64     `json:"bytes"`
	SHA256   string    `json:"sha256"`
	BuildID  string    `json:"buildID"`
	Uploaded time.Time `json:"uploaded"`
	By       string    `json:"by"`
}

// Kinds of notice.
const (
	NoticeCheckpoint  = "checkpoint"
	NoticeExpectation = "expectation"
	NoticeFailure     = "failure"
	NoticeMention     = "mention"
	NoticeInvitation  = "invitation"
	NoticeHandOver    = "handover"
	NoticeTrial       = "trial"
)

// Answered is a question about evidence with its answer.
type Answered struct {
	Question string          `json:"question"`
	Request  json.RawMessage `json:"request"`
	Answer   json.RawMessage `json:"answer"`
}

// Notice is something that people and programs are told once. By is who caused it, empty for the service. Markdown and HTML say it for
// people, Answers has the stack and the values at the place.
type Notice struct {
	ID       int64      `json:"id"`
	Kind     string     `json:"kind" enum:"checkpoint,expectation,failure,mention,invitation,handover,trial"`
	Case     string     `json:"case"`
	Evidence string     `json:"evidence,omitempty"`
	By       string     `json:"by,omitempty"`
	At       time.Time  `json:"at"`
	Subject  string     `json:"subject"`
	Link     string     `json:"link"`
	Place    *Place     `json:"place,omitempty"`
	Answers  []Answered `json:"answers,omitempty"`
	Markdown string     `json:"markdown"`
	HTML     string     `json:"html"`
}

// Told is what a webhook receives: one or more notices. The header webhook-id is the same at each attempt.
type Told struct {
	Type    string   `json:"type" enum:"notices"`
	Notices []Notice `json:"notices"`
}

// Notices are how a person is told what happens in a case: by mail, if the service can send mail, the person has an address, and did not
// switch it off for the case.
type Notices struct {
	CanMail bool     `json:"canMail" doc:"the service can send mail"`
	Mail    string   `json:"mail" doc:"the person's address; empty for none"`
	IsOn    bool     `json:"isOn" doc:"the person is mailed what happens in the case"`
	List    []Notice `json:"list" doc:"oldest first"`
}

// NoticesSwitch switches mails about a case on or off.
type NoticesSwitch struct {
	IsOn bool `json:"isOn"`
}

// NewHook is an address that is told what arrives in a case.
type NewHook struct {
	URL   string   `json:"url" minLength:"1" maxLength:"2000"`
	Kinds []string `json:"kinds,omitempty" maxItems:"3" enum:"checkpoint,expectation,failure" doc:"the kinds that are sent; none for all"`
}

// Hook is an address that is told what arrives in a case. Secret is given once, when the hook is made; with it the receiver checks the
// signature. Ended is why nothing is sent any more. Sent, Failed and Trouble are about the latest request.
type Hook struct {
	ID      int64      `json:"id"`
	URL     string     `json:"url"`
	Kinds   []string   `json:"kinds"`
	By      string     `json:"by"`
	Created time.Time  `json:"created"`
	Secret  string     `json:"secret,omitempty"`
	Ended   string     `json:"ended,omitempty"`
	Sent    *time.Time `json:"sent,omitempty"`
	Failed  int        `json:"failed" doc:"attempts of the latest request that failed"`
	Trouble string     `json:"trouble,omitempty"`
}

// HandingOver is a hand-over note that is sent: it is posted as a comment, and To, or all members if it is empty, are told.
type HandingOver struct {
	Text string   `json:"text" minLength:"1" maxLength:"100000"`
	To   []string `json:"to,omitempty" maxItems:"1000"`
}
