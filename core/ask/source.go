package ask

import (
	"context"

	"wraithology/core/replay"
)

var _ = declare[SourceRequest, Source]("source", "The text of a source file")

// SourceRequest asks for the text of a source file.
type SourceRequest struct {
	File string `json:"file" required:"true" maxLength:"4096" arg:"1" doc:"path of the file, as a frame has it"`
}

// Source is the text of a source file and its lines that can hold a checkpoint.
type Source struct {
	File  string `json:"file"`
	Text  string `json:"text"`
	Lines []int  `json:"lines"`
}

func (q SourceRequest) answer(_ context.Context, s *Subject) (Source, error) {
	out := Source{File: q.File, Lines: []int{}}
	var err error
	if out.Text, err = s.Recording.Source(q.File); err != nil {
		return out, err
	}
	if r, ok := s.Recording.(replay.Finder); ok {
		out.Lines = append(out.Lines, r.Lines(q.File)...)
	}
	return out, nil
}
