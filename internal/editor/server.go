// Package editor serves editors by the language server protocol: findings of the migrations that are
// open, with what mends them, completion, what a name stands for, and the canonical form. It reads
// files alone, unless it is given a way to look at a database.
package editor

import (
	"bufio"
	"encoding/json"
	"errors"
	"io"
	"net/url"
	"path/filepath"
	"runtime"
	"slices"
	"strings"

	"lastboard/internal/core/fault"
	"lastboard/internal/core/project"
	"lastboard/internal/engine"
	"lastboard/internal/pattern"
	"lastboard/internal/sqltext"
)

// Server is one editor's session.
type Server struct {
	Engine  func(*project.Project) engine.Engine // of a project's default database
	Version string
	Look    Look // at a database; nil for none

	out         io.Writer
	bytes       bool               // characters are counted in UTF-8
	docs        map[string]string  // by path
	folders     map[string]*folder // by their path
	initialized bool
	ends        bool

	looking   bool               // a look is on its way
	lookAgain string             // the folder that has changed since it began
	looks     chan *looked       // that have come to their end
	last      map[string]*looked // the last one of each folder
}

// Serve answers until the editor ends the session. It is an error where that breaks off.
func (s *Server) Serve(in io.Reader, out io.Writer) error {
	s.out, s.docs, s.folders = out, map[string]string{}, map[string]*folder{}
	s.looks, s.last = make(chan *looked, 1), map[string]*looked{}
	messages, ended := make(chan *message), make(chan error, 1)
	go func() {
		r := bufio.NewReader(in)
		for {
			m, err := read(r)
			if err != nil {
				ended <- err
				return
			}
			messages <- m
		}
	}()
	for {
		var err error
		select {
		case l := <-s.looks:
			err = s.hasLooked(l)
		case m := <-messages:
			if m.Method == "exit" && s.ends {
				return nil
			}
			if m.Method == "exit" {
				return errors.New("the editor left without saying so")
			}
			err = s.answer(m)
		case err = <-ended:
			if errors.Is(err, io.EOF) && s.ends {
				return nil
			}
		}
		if err != nil {
			return err
		}
	}
}

// answer does what a message asks for. The error is that of writing.
func (s *Server) answer(m *message) error {
	if m.Error != nil && m.Method == "" && m.ID == nil {
		return write(s.out, &message{ID: json.RawMessage("null"), Error: m.Error})
	}
	if m.Method == "" {
		return nil // an answer, and nothing was asked
	}
	result, wrong := s.do(m.Method, m.Params)
	if m.ID == nil {
		return nil
	}
	if wrong != nil {
		return write(s.out, &message{ID: m.ID, Error: wrong})
	}
	if result == nil {
		result = json.RawMessage("null")
	}
	return write(s.out, &message{ID: m.ID, Result: result})
}

func (s *Server) do(method string, params json.RawMessage) (result any, wrong *wireError) {
	switch {
	case method == "initialize":
		return s.initialize(params)
	case !s.initialized:
		return nil, &wireError{notInitialized, "the session has not begun"}
	case s.ends:
		return nil, &wireError{invalidRequest, "the session is over"}
	}
	switch method {
	case "shutdown":
		s.ends = true
		return nil, nil
	case "textDocument/didOpen", "textDocument/didChange", "textDocument/didClose", "textDocument/didSave",
		"workspace/didChangeWatchedFiles":
		return nil, s.changed(method, params)
	case "textDocument/completion":
		return s.placed(params, s.complete)
	case "textDocument/hover":
		return s.placed(params, s.hover)
	case "textDocument/codeAction":
		return s.actions(params)
	case "textDocument/formatting":
		return s.formatting(params)
	}
	if strings.HasPrefix(method, "$/") || method == "initialized" || strings.HasPrefix(method, "workspace/did") {
		return nil, nil
	}
	return nil, &wireError{methodNotFound, "there is no " + method + " here"}
}

func (s *Server) initialize(params json.RawMessage) (any, *wireError) {
	var p struct {
		Capabilities struct {
			General struct {
				PositionEncodings []string `json:"positionEncodings"`
			} `json:"general"`
		} `json:"capabilities"`
	}
	if err := json.Unmarshal(params, &p); err != nil {
		return nil, &wireError{invalidParams, err.Error()}
	}
	s.initialized = true
	encoding := "utf-16"
	if slices.Contains(p.Capabilities.General.PositionEncodings, "utf-8") {
		encoding, s.bytes = "utf-8", true
	}
	return map[string]any{
		"capabilities": map[string]any{
			"positionEncoding":           encoding,
			"textDocumentSync":           map[string]any{"openClose": true, "change": 1, "save": true},
			"completionProvider":         map[string]any{"triggerCharacters": []string{"."}},
			"hoverProvider":              true,
			"codeActionProvider":         map[string]any{"codeActionKinds": []string{"quickfix", "source"}},
			"documentFormattingProvider": true,
		},
		"serverInfo": map[string]any{"name": "lastboard", "version": s.Version},
	}, nil
}

// changed takes a document that was opened, changed, saved or closed.
func (s *Server) changed(method string, params json.RawMessage) *wireError {
	var p struct {
		TextDocument struct {
			URI  string `json:"uri"`
			Text string `json:"text"`
		} `json:"textDocument"`
		ContentChanges []struct {
			Text string `json:"text"`
		} `json:"contentChanges"`
	}
	if err := json.Unmarshal(params, &p); err != nil {
		return &wireError{invalidParams, err.Error()}
	}
	path, file := pathOf(p.TextDocument.URI)
	switch {
	case method == "workspace/didChangeWatchedFiles" || method == "textDocument/didSave":
		clear(s.folders) // files may have come, gone or changed
	case !file:
		return nil
	case method == "textDocument/didOpen":
		s.docs[path] = p.TextDocument.Text
	case method == "textDocument/didChange":
		for _, c := range p.ContentChanges {
			s.docs[path] = c.Text
		}
	default:
		delete(s.docs, path)
		clear(s.folders)
		_ = s.tell(path, []diagnostic{})
	}
	if f, source := s.folders[filepath.Dir(path)], s.docs[path]; f != nil {
		f.put(path, source) // before those of others are looked at
	}
	for other := range s.docs {
		if method == "workspace/didChangeWatchedFiles" || method == "textDocument/didSave" || other == path ||
			filepath.Dir(other) == filepath.Dir(path) {
			if err := s.tell(other, s.diagnostics(other)); err != nil {
				return nil // the next answer meets it
			}
			s.look(filepath.Dir(other))
		}
	}
	return nil
}

func (s *Server) tell(path string, list []diagnostic) error {
	params, err := json.Marshal(map[string]any{"uri": uriOf(path), "diagnostics": list})
	if err != nil {
		return err
	}
	return write(s.out, &message{Method: "textDocument/publishDiagnostics", Params: params})
}

// folder gives the project of a document, with all that is open in it; nil where it has none.
func (s *Server) folder(path string) (*folder, error) {
	dir := filepath.Dir(path)
	if f, known := s.folders[dir]; known {
		return f, nil
	}
	f, err := openFolder(path, s.Engine)
	if err != nil {
		return nil, err
	}
	s.folders[dir] = f
	if f != nil {
		for other, source := range s.docs {
			if filepath.Dir(other) == dir {
				f.put(other, source)
			}
		}
	}
	return f, nil
}

// faults gives what is wrong or dangerous in a document.
func (s *Server) faults(path string) fault.List {
	f, err := s.folder(path)
	if err != nil {
		var wrong *fault.Fault
		if errors.As(err, &wrong) && wrong.Rule == "project-missing" {
			return nil // it is no migration
		}
		return fault.List{{Level: fault.Error, Rule: "project", Message: err.Error(),
			Where: fault.Where{Line: 1, Column: 1}}}
	}
	if f == nil {
		return nil
	}
	return s.withRows(path, filepath.Dir(path), f.findings(path, s.docs[path]))
}

var severities = map[fault.Level]int{fault.Error: 1, fault.Warning: 2, fault.Note: 3}

func (s *Server) diagnostics(path string) []diagnostic {
	list := []diagnostic{}
	for _, f := range s.faults(path) {
		list = append(list, s.diagnostic(path, f))
	}
	return list
}

func (s *Server) diagnostic(path string, f *fault.Fault) diagnostic {
	d := diagnostic{Range: s.text(path).word(f.Where.Line, f.Where.Column), Severity: severities[f.Level], Code: f.Rule,
		Source: "lastboard", Message: f.Message}
	if f.Cure != "" {
		d.Message += "\ncure: " + f.Cure
	}
	return d
}

func (s *Server) text(path string) text { return text{s.docs[path], s.bytes} }

// placed answers a question about a place in a document that is open and is a migration.
func (s *Server) placed(params json.RawMessage, answer func(*spot) any) (any, *wireError) {
	var p placed
	if err := json.Unmarshal(params, &p); err != nil {
		return nil, &wireError{invalidParams, err.Error()}
	}
	path, _ := pathOf(p.TextDocument.URI)
	source, open := s.docs[path]
	if !open {
		return nil, nil
	}
	f, err := s.folder(path)
	if err != nil || f == nil {
		return nil, nil
	}
	i, _ := f.put(path, source)
	if i < 0 {
		return nil, nil
	}
	t := s.text(path)
	at := newSpot(f, i, t, t.offset(p.Position))
	at.path = path
	return answer(at), nil
}

// didYouMean knows the cures that name what to write in place of a word.
var didYouMean = pattern.Of(`^did you mean (\S+)\?$`)

// actions gives what mends the findings of a range: a word in place of another, the title that is
// missing, and the canonical form.
func (s *Server) actions(params json.RawMessage) (any, *wireError) {
	var p struct {
		TextDocument textDocument `json:"textDocument"`
		Range        Range        `json:"range"`
	}
	if err := json.Unmarshal(params, &p); err != nil {
		return nil, &wireError{invalidParams, err.Error()}
	}
	path, _ := pathOf(p.TextDocument.URI)
	if _, open := s.docs[path]; !open {
		return []any{}, nil
	}
	list := []any{}
	action := func(title, kind string, found []diagnostic, edits ...textEdit) {
		list = append(list, map[string]any{"title": title, "kind": kind, "diagnostics": found,
			"edit": map[string]any{"changes": map[string]any{p.TextDocument.URI: edits}}})
	}
	for _, f := range s.faults(path) {
		d := s.diagnostic(path, f)
		if d.Range.End.Line < p.Range.Start.Line || d.Range.Start.Line > p.Range.End.Line {
			continue
		}
		if word := didYouMean().FindStringSubmatch(f.Cure); word != nil {
			action("write "+word[1], "quickfix", []diagnostic{d}, textEdit{d.Range, word[1]})
		}
		if f.Rule == "title-missing" {
			action("begin with a title", "quickfix", []diagnostic{d}, textEdit{Range{}, "-- What changes, and why\n"})
		}
	}
	if edits := s.tidied(path); len(edits) > 0 {
		action("write it in the canonical form", "source", []diagnostic{}, edits...)
	}
	return list, nil
}

func (s *Server) formatting(params json.RawMessage) (any, *wireError) {
	var p struct {
		TextDocument textDocument `json:"textDocument"`
	}
	if err := json.Unmarshal(params, &p); err != nil {
		return nil, &wireError{invalidParams, err.Error()}
	}
	path, _ := pathOf(p.TextDocument.URI)
	return s.tidied(path), nil
}

// tidied gives the edit that brings a document into the canonical form; none where it has it, or
// cannot be read, or is no migration.
func (s *Server) tidied(path string) []textEdit {
	list := []textEdit{}
	if f, err := s.folder(path); err != nil || f == nil {
		return list
	}
	file, err := sqltext.Parse(path, s.docs[path])
	if err != nil {
		return list
	}
	now, err := sqltext.Tidy(file)
	if err != nil || now == s.docs[path] {
		return list
	}
	return append(list, textEdit{s.text(path).all(), now})
}

// pathOf gives the path of a document; file is false for one that is no file.
func pathOf(uri string) (path string, file bool) {
	u, err := url.Parse(uri)
	if err != nil || u.Scheme != "file" {
		return "", false
	}
	path = u.Path
	if runtime.GOOS == "windows" {
		path = strings.TrimPrefix(path, "/")
	}
	return filepath.Clean(filepath.FromSlash(path)), true
}

func uriOf(path string) string {
	slash := filepath.ToSlash(path)
	if !strings.HasPrefix(slash, "/") {
		slash = "/" + slash
	}
	return (&url.URL{Scheme: "file", Path: slash}).String()
}
