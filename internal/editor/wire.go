package editor

import (
	"bufio"
	"encoding/json"
	"fmt"
	"io"
	"strconv"
	"strings"
)

// The protocol's messages: JSON-RPC 2.0, each behind a header with its length in bytes.

// mostBytes bounds a message.
const mostBytes = 64 << 20

type message struct {
	JSONRPC string          `json:"jsonrpc"`
	ID      json.RawMessage `json:"id,omitempty"`
	Method  string          `json:"method,omitempty"`
	Params  json.RawMessage `json:"params,omitempty"`
	Result  any             `json:"result,omitempty"`
	Error   *wireError      `json:"error,omitempty"`
}

type wireError struct {
	Code    int    `json:"code"`
	Message string `json:"message"`
}

// The protocol's codes of errors.
const (
	parseError     = -32700
	invalidRequest = -32600
	methodNotFound = -32601
	invalidParams  = -32602
	notInitialized = -32002
)

// read gives the next message. The error is io.EOF at the end.
func read(r *bufio.Reader) (*message, error) {
	length := -1
	for {
		line, err := r.ReadString('\n')
		if err != nil {
			return nil, err
		}
		line = strings.TrimRight(line, "\r\n")
		if line == "" {
			break
		}
		name, value, _ := strings.Cut(line, ":")
		if strings.EqualFold(strings.TrimSpace(name), "content-length") {
			if length, err = strconv.Atoi(strings.TrimSpace(value)); err != nil || length < 0 || length > mostBytes {
				return nil, fmt.Errorf("a message of %q bytes", strings.TrimSpace(value))
			}
		}
	}
	if length < 0 {
		return nil, fmt.Errorf("a message without its length")
	}
	text := make([]byte, length)
	if _, err := io.ReadFull(r, text); err != nil {
		return nil, err
	}
	m := &message{}
	if err := json.Unmarshal(text, m); err != nil {
		return &message{Error: &wireError{parseError, err.Error()}}, nil
	}
	return m, nil
}

// write sends a message.
func write(w io.Writer, m *message) error {
	m.JSONRPC = "2.0"
	text, err := json.Marshal(m)
	if err != nil {
		return err
	}
	_, err = fmt.Fprintf(w, "Content-Length: %d\r\n\r\n%s", len(text), text)
	return err
}

// Position is a place in a text: both count from 0, Character in the units that were agreed on.
type Position struct {
	Line      int `json:"line"`
	Character int `json:"character"`
}

// Range is a part of a text; its end is not in it.
type Range struct {
	Start Position `json:"start"`
	End   Position `json:"end"`
}

type textDocument struct {
	URI string `json:"uri"`
}

type placed struct {
	TextDocument textDocument `json:"textDocument"`
	Position     Position     `json:"position"`
}

type diagnostic struct {
	Range    Range  `json:"range"`
	Severity int    `json:"severity"`
	Code     string `json:"code"`
	Source   string `json:"source"`
	Message  string `json:"message"`
}

type textEdit struct {
	Range   Range  `json:"range"`
	NewText string `json:"newText"`
}
