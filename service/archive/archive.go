// Package archive writes a whole case into one file, and reads such a file into a service. The format is described in
// docs/formats/case-archive.md: a ZIP file with records as JSON Lines and the bytes of evidence and artifacts.
package archive

import (
	"encoding/json"
	"time"

	"wraithology/core/mask"
)

// Format and Version are in the header of an archive.
const (
	Format  = "wraithology-case"
	Version = 1
)

// Names of the files in an archive. Files of bytes are below filesFolder, named by their SHA-256.
const (
	headerFile       = "case.json"
	evidenceFile     = "evidence.jsonl"
	artifactsFile    = "artifacts.jsonl"
	checkpointsFile  = "checkpoints.jsonl"
	expectationsFile = "expectations.jsonl"
	exhibitsFile     = "exhibits.jsonl"
	commentsFile     = "comments.jsonl"
	theoriesFile     = "theories.jsonl"
	sittingsFile     = "sittings.jsonl"
	stepsFile        = "steps.jsonl"
	custodyFile      = "custody.jsonl"
	reportFile       = "report.html"
	manifestFile     = "manifest.json"
	filesFolder      = "files/"
)

// Header says what an archive is, and describes the case.
type Header struct {
	Format  string    `json:"format"`
	Version int       `json:"version"`
	From    string    `json:"from"`    // address of the service
	Service string    `json:"service"` // its identity
	By      string    `json:"by"`
	At      time.Time `json:"at"`
	// Masked is set if the archive has no secrets: the bytes of evidence and artifacts are left out.
	Masked bool `json:"masked,omitempty"`
	Case   Case `json:"case"`
}

// Case is the case of an archive.
type Case struct {
	Name     string     `json:"name"`
	Title    string     `json:"title"`
	Created  time.Time  `json:"created"`
	Closed   *time.Time `json:"closed,omitempty"`
	ClosedBy string     `json:"closedBy,omitempty"`
	Cause    string     `json:"cause,omitempty"`
	Members  []member   `json:"members"`
	Mask     mask.Rules `json:"mask"` // the rules for masking; exhibits were asked with them
}

type member struct {
	Name string `json:"name"`
	Role string `json:"role"`
}

// evidence is a record of evidence. What indexing finds out is for people who read the archive; an import finds it out again.
type evidence struct {
	Name          string            `json:"name"`
	Bytes         int64             `json:"bytes"`
	SHA256        string            `json:"sha256"`
	Uploaded      time.Time         `json:"uploaded"`
	By            string            `json:"by"`
	ReadAs        string            `json:"readAs,omitempty"`
	Fields        map[string]string `json:"fields,omitempty"`
	ClockOffsetNs int64             `json:"clockOffsetNs,omitempty"`
	Kind          string            `json:"kind"`
	Program       string            `json:"program,omitempty"`
	Host          string            `json:"host,omitempty"`
	Started       time.Time         `json:"started"`
	Moments       int64             `json:"moments"`
	Outcome       string            `json:"outcome"`
	Fingerprint   string            `json:"fingerprint,omitempty"`
}

type artifact struct {
	Name     string    `json:"name"`
	Kind     string    `json:"kind"`
	Bytes    int64     `json:"bytes"`
	SHA256   string    `json:"sha256"`
	BuildID  string    `json:"buildId,omitempty"`
	Uploaded time.Time `json:"uploaded"`
	By       string    `json:"by"`
}

type checkpoint struct {
	Number    int64     `json:"number"`
	Kind      string    `json:"kind"`
	File      string    `json:"file,omitempty"`
	Line      int32     `json:"line,omitempty"`
	Text      string    `json:"text,omitempty"`
	Function  string    `json:"function,omitempty"`
	Evidence  string    `json:"evidence,omitempty"`
	Moment    int64     `json:"moment,omitempty"`
	Frame     int32     `json:"frame,omitempty"`
	About     string    `json:"about,omitempty"`
	Condition string    `json:"condition,omitempty"`
	Nth       string    `json:"nth,omitempty"`
	Thread    uint32    `json:"thread,omitempty"`
	Listing   bool      `json:"listing,omitempty"`
	Show      []string  `json:"show,omitempty"`
	Enabled   bool      `json:"enabled"`
	By        string    `json:"by"`
	Created   time.Time `json:"created"`
}

type expectation struct {
	Number     int64     `json:"number"`
	Checkpoint string    `json:"checkpoint"`
	Text       string    `json:"text,omitempty"`
	Condition  string    `json:"condition,omitempty"`
	That       string    `json:"that"`
	Note       string    `json:"note,omitempty"`
	By         string    `json:"by"`
	Created    time.Time `json:"created"`
}

type exhibit struct {
	Number   int64           `json:"number"`
	Evidence string          `json:"evidence"`
	By       string          `json:"by"`
	Created  time.Time       `json:"created"`
	Question string          `json:"question"`
	Request  json.RawMessage `json:"request"`
	Answer   json.RawMessage `json:"answer"`
	Moment   int64           `json:"moment"`
	Thread   int64           `json:"thread"`
	Frame    int32           `json:"frame"`
	Note     string          `json:"note,omitempty"`
}

// comment is a comment, with what it said before. Comments stand after those that they answer.
type comment struct {
	Number   int64      `json:"number"`
	Parent   int64      `json:"parent,omitempty"`
	Evidence string     `json:"evidence,omitempty"`
	Exhibit  int64      `json:"exhibit,omitempty"`
	By       string     `json:"by"`
	Created  time.Time  `json:"created"`
	Edited   *time.Time `json:"edited,omitempty"`
	Deleted  *time.Time `json:"deleted,omitempty"`
	Text     string     `json:"text"`
	Moment   *int64     `json:"moment,omitempty"`
	Until    *int64     `json:"until,omitempty"`
	Thread   int64      `json:"thread,omitempty"`
	Frame    int32      `json:"frame,omitempty"`
	Path     string     `json:"path,omitempty"`
	File     string     `json:"file,omitempty"`
	Line     int32      `json:"line,omitempty"`
	Versions []version  `json:"versions,omitempty"`
}

type version struct {
	At   time.Time `json:"at"`
	Text string    `json:"text"`
}

type theory struct {
	Number  int64     `json:"number"`
	By      string    `json:"by"`
	Created time.Time `json:"created"`
	Changed time.Time `json:"changed"`
	Text    string    `json:"text"`
	State   string    `json:"state"`
	Note    string    `json:"note,omitempty"`
	For     []int64   `json:"for,omitempty"`     // exhibits
	Against []int64   `json:"against,omitempty"` // exhibits
}

type sitting struct {
	Evidence string   `json:"evidence"`
	Moment   int64    `json:"moment"`
	Thread   int64    `json:"thread"`
	Frame    int32    `json:"frame"`
	Watches  []string `json:"watches,omitempty"`
	Columns  []string `json:"columns,omitempty"`
	Format   string   `json:"format,omitempty"`
}

// step is what a person did in the sitting of evidence.
type step struct {
	Evidence string    `json:"evidence"`
	By       string    `json:"by"`
	At       time.Time `json:"at"`
	Kind     string    `json:"kind"`
	Moment   int64     `json:"moment"`
	Thread   int64     `json:"thread"`
	Frame    int32     `json:"frame"`
	Text     string    `json:"text,omitempty"`
}

// custody is an entry of the record of who did what.
type custody struct {
	At   time.Time `json:"at"`
	By   string    `json:"by"`
	What string    `json:"what"`
}

// manifest lists every other file of an archive.
type manifest struct {
	Files []file `json:"files"`
}

type file struct {
	Name   string `json:"name"`
	Bytes  int64  `json:"bytes"`
	SHA256 string `json:"sha256"`
}
