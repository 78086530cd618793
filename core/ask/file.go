package ask

import (
	"context"

	"wraithology/core/replay"
)

var _ = declare[FileRequest, File]("file", "The text of a source file")

// FileRequest asks for the text of a source file.
type FileRequest struct {
	File string `json:"file" required:"true" maxLength:"4096" arg:"1" doc:"path of the file, as a frame has it"`
}

// File is the text of a source file and its lines that can hold a checkpoint.
type File struct {
	File  string `json:"file"`
	Text  string `json:"text"`
	Lines []int  `json:"lines"`
}

func (q FileRequest) answer(_ context.Context, s *Subject) (File, error) {
	out := File{File: q.File, Lines: []int{}}
	var err error
	if out.Text, err = s.Recording.Source(q.File); err != nil {
		return out, err
	}
	if r, ok := s.Recording.(replay.Finder); ok {
		out.Lines = append(out.Lines, r.Lines(q.File)...)
	}
	return out, nil
}
