// Package expectations reads and writes files of expectations, which live beside the code. Their format is described in
// docs/formats/expectations.md.
package expectations

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"strings"

	"go.yaml.in/yaml/v3"

	"wraithology/core/ask"
	"wraithology/core/fault"
)

// MaxBytes limits the size of a file.
const MaxBytes = 4 << 20

// remedy is that of errors in a file.
const remedy = "docs/formats/expectations.md describes the file; wraith expect add FILE writes one"

// content is what a file contains.
type content struct {
	Expectations []ask.Expectation `yaml:"expectations"`
}

// File is a file of expectations. Comments and other formatting outlive changes.
type File struct {
	path string
	mode fs.FileMode
	doc  yaml.Node
	list []ask.Expectation
}

// IsFile reports whether a name is that of a file, not of a case: it has a slash, or ends in .yaml or .yml.
func IsFile(name string) bool {
	return strings.ContainsRune(name, '/') || strings.HasSuffix(name, ".yaml") || strings.HasSuffix(name, ".yml")
}

// Create opens a file. It is empty if there is none.
func Create(path string) (*File, error) {
	f, err := Open(path)
	if errors.Is(err, fs.ErrNotExist) {
		return parse(path, nil, 0o644)
	}
	return f, err
}

// Open reads a file. Errors wrap fault.Unreadable, or fault.InvalidRequest and name the line or the expectation.
func Open(path string) (*File, error) {
	r, err := os.Open(path)
	if err != nil {
		return nil, fault.Unreadable.New("check the path; wraith expect add FILE makes one", "read the expectations: %w", err)
	}
	defer r.Close()
	info, err := r.Stat()
	if err != nil {
		return nil, fault.Unreadable.New("", "read the expectations: %w", err)
	}
	text, err := io.ReadAll(io.LimitReader(r, MaxBytes+1))
	if err != nil {
		return nil, fault.Unreadable.New("", "read the expectations: %w", err)
	}
	if len(text) > MaxBytes {
		return nil, fault.InvalidRequest.New("split it into several files", "%s: more than %d bytes of expectations", path, MaxBytes)
	}
	return parse(path, text, info.Mode().Perm())
}

func parse(path string, text []byte, mode fs.FileMode) (*File, error) {
	f := &File{path: path, mode: mode}
	invalid := func(err error) error { return fault.InvalidRequest.New(remedy, "%s: %w", path, err) }
	var c content
	if err := yaml.NewDecoder(bytes.NewReader(text)).Decode(&yaml.Node{}); errors.Is(err, io.EOF) { // empty, or comments only
		text = append(bytes.TrimRight(text, "\n"), "\nexpectations: []\n"...)
	}
	strict := yaml.NewDecoder(bytes.NewReader(text))
	strict.KnownFields(true)
	if err := strict.Decode(&c); err != nil {
		return nil, invalid(err)
	}
	if err := strict.Decode(&content{}); !errors.Is(err, io.EOF) {
		return nil, invalid(errors.New("more than one document"))
	}
	if err := yaml.Unmarshal(text, &f.doc); err != nil {
		return nil, invalid(err)
	}
	if root := f.doc.Content[0]; !isEmpty(root) && (root.Kind != yaml.MappingNode || len(root.Content) != 2 || root.Content[0].Value != "expectations" || root.Content[1].Kind != yaml.SequenceNode && !isEmpty(root.Content[1])) {
		return nil, invalid(errors.New("expected the list expectations"))
	}
	for i, e := range c.Expectations {
		if err := e.Valid(); err != nil {
			return nil, fmt.Errorf("%s: expectation %d: %w", path, i+1, err)
		}
	}
	f.list = c.Expectations
	return f, nil
}

// List lists the expectations; their numbers are their positions, from 1.
func (f *File) List() []ask.Expectation { return f.list }

// At returns the expectation with a number.
func (f *File) At(number int64) (ask.Expectation, error) {
	if number < 1 || number > int64(len(f.list)) {
		return ask.Expectation{}, fault.NotFound.New("wraith expect list FILE lists them", "%s: expectation %d not found", f.path, number)
	}
	return f.list[number-1], nil
}

// Add adds an expectation at the end.
func (f *File) Add(e ask.Expectation) error {
	node, err := nodeOf(e)
	if err != nil {
		return err
	}
	items := f.items()
	items.Style = 0 // an empty list is written as []
	items.Content = append(items.Content, node)
	f.list = append(f.list, e)
	return nil
}

// Replace replaces the expectation with a number, and keeps the comments around it.
func (f *File) Replace(number int64, e ask.Expectation) error {
	if _, err := f.At(number); err != nil {
		return err
	}
	node, err := nodeOf(e)
	if err != nil {
		return err
	}
	items := f.items()
	old := items.Content[number-1]
	keepComments(node, old)
	if len(old.Content) > 0 { // a comment before an item belongs to its first key
		keepComments(node.Content[0], old.Content[0])
	}
	items.Content[number-1], f.list[number-1] = node, e
	return nil
}

func keepComments(node, old *yaml.Node) {
	node.HeadComment, node.LineComment, node.FootComment = old.HeadComment, old.LineComment, old.FootComment
}

// Delete removes the expectation with a number.
func (f *File) Delete(number int64) error {
	if _, err := f.At(number); err != nil {
		return err
	}
	items := f.items()
	items.Content = append(items.Content[:number-1], items.Content[number:]...)
	f.list = append(f.list[:number-1], f.list[number:]...)
	return nil
}

// isEmpty reports whether a node is null, as that of a file with comments only.
func isEmpty(n *yaml.Node) bool {
	return n.Kind == yaml.ScalarNode && n.Tag == "!!null" && n.Anchor == ""
}

// items returns the node of the list, and makes it if the file has none.
func (f *File) items() *yaml.Node {
	root := f.doc.Content[0]
	if isEmpty(root) {
		name := &yaml.Node{Kind: yaml.ScalarNode, Value: "expectations"}
		*root = yaml.Node{Kind: yaml.MappingNode, HeadComment: root.HeadComment, FootComment: root.FootComment, Content: []*yaml.Node{name, {Kind: yaml.SequenceNode}}}
	}
	list := root.Content[1]
	if isEmpty(list) {
		*list = yaml.Node{Kind: yaml.SequenceNode}
	}
	return list
}

func nodeOf(e ask.Expectation) (*yaml.Node, error) {
	if err := e.Valid(); err != nil {
		return nil, err
	}
	node := &yaml.Node{}
	if err := node.Encode(e); err != nil {
		return nil, fmt.Errorf("write the expectation: %w", err)
	}
	return node, nil
}

// Save writes the file; it is complete or as before.
func (f *File) Save() error {
	var text bytes.Buffer
	e := yaml.NewEncoder(&text)
	e.SetIndent(2)
	if err := errors.Join(e.Encode(&f.doc), e.Close()); err != nil {
		return fmt.Errorf("write the expectations: %w", err)
	}
	dir := filepath.Dir(f.path)
	temporary, err := os.CreateTemp(dir, ".expectations-*")
	if err != nil {
		return fmt.Errorf("write the expectations: %w", err)
	}
	defer os.Remove(temporary.Name()) // fails after the rename
	_, err = temporary.Write(text.Bytes())
	err = errors.Join(err, temporary.Chmod(f.mode), temporary.Close())
	if err == nil {
		err = os.Rename(temporary.Name(), f.path)
	}
	if err != nil {
		return fmt.Errorf("write the expectations: %w", err)
	}
	return nil
}
