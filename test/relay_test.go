package test

import (
	"bytes"
	"encoding/binary"
	"io"
	"net"
	"slices"
	"sync/atomic"
	"testing"
)

// relay stands between a client and a server, and counts the statements that pass.
type relay struct {
	address    string
	statements atomic.Int64
	// cuts are texts: the line is cut once a message that has all of them was passed to the server,
	// the first time.
	cuts []string
	cut  atomic.Bool
}

// relayTo starts one before the server at an address, until the test ends. of gives the
// statements among the bytes that a client has sent so far, with what is left of them.
func relayTo(t *testing.T, server string, of func(sent []byte) (n int64, rest []byte)) *relay {
	t.Helper()
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { listener.Close() })
	r := &relay{address: listener.Addr().String()}
	go func() {
		for {
			client, err := listener.Accept()
			if err != nil {
				return
			}
			go r.pass(client, server, of)
		}
	}()
	return r
}

func (r *relay) pass(client net.Conn, server string, of func([]byte) (int64, []byte)) {
	defer client.Close()
	there, err := net.Dial("tcp", server)
	if err != nil {
		return
	}
	defer there.Close()
	go func() {
		io.Copy(client, there)
		client.Close()
	}()
	var sent []byte
	piece := make([]byte, 1<<16)
	for {
		n, err := client.Read(piece)
		if err != nil {
			return
		}
		var found int64
		found, sent = of(append(sent, piece[:n]...))
		r.statements.Add(found)
		if _, err := there.Write(piece[:n]); err != nil {
			return
		}
		if len(r.cuts) > 0 && !slices.ContainsFunc(r.cuts, func(text string) bool {
			return !bytes.Contains(piece[:n], []byte(text))
		}) && !r.cut.Swap(true) {
			return
		}
	}
}

// postgresStatements counts simple queries and executions. The first message of a
// connection has no letter before its length (the manual, Message Formats).
func postgresStatements(sent []byte) (n int64, rest []byte) {
	for {
		head := 1
		if len(sent) > 0 && sent[0] == 0 {
			head = 0
		}
		if len(sent) < head+4 {
			return n, sent
		}
		size := head + int(binary.BigEndian.Uint32(sent[head:]))
		if len(sent) < size {
			return n, sent
		}
		if head == 1 && bytes.IndexByte([]byte("QE"), sent[0]) >= 0 {
			n++
		}
		sent = sent[size:]
	}
}

// mariadbStatements counts queries and executions: the commands 3 and 23 of packets that
// begin an exchange (the manual, Client/Server Protocol).
func mariadbStatements(sent []byte) (n int64, rest []byte) {
	for len(sent) >= 5 {
		size := 4 + int(sent[0]) + int(sent[1])<<8 + int(sent[2])<<16
		if len(sent) < size {
			break
		}
		if sent[3] == 0 && (sent[4] == 3 || sent[4] == 23) {
			n++
		}
		sent = sent[size:]
	}
	return n, sent
}
