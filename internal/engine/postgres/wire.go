package postgres

import (
	"context"
	"encoding/hex"
	"errors"
	"fmt"
	"strconv"
	"strings"
	"sync"

	"github.com/jackc/pgx/v5/pgconn"

	"lastboard/internal/engine"
	"lastboard/internal/engine/bounded"
	"lastboard/internal/sqltext"
)

// Values travel as text: what a column holds comes back as it is written, and the
// server finds the type of a parameter.

// translated remembers statements of the core as the server takes them.
var translated sync.Map

// translate writes a statement of the core for the server: marks become numbered
// parameters, and Lastboard's own tables stand in their schema.
func translate(sql string, args int) string {
	if args == 0 && !strings.Contains(sql, engine.Prefix) {
		return sql
	}
	if done, ok := translated.Load(sql); ok {
		return done.(string)
	}
	tokens, _ := sqltext.Scan(sql, sqltext.Migration)
	var b strings.Builder
	last, n := 0, 0
	for i, t := range tokens {
		switch {
		case t.Text == "?" && args > 0:
			n++
			b.WriteString(sql[last:t.Pos.Offset] + "$" + strconv.Itoa(n))
		case t.Kind == sqltext.Word && strings.HasPrefix(t.Value, engine.Prefix) &&
			follows(tokens, i, "from", "into", "update", "table", "exists", "join") && !tokens[i+1].Is("."):
			b.WriteString(sql[last:t.Pos.Offset] + name(t.Value))
		default:
			continue
		}
		last = t.End()
	}
	b.WriteString(sql[last:])
	if len(sql) < 1<<16 {
		translated.Store(sql, b.String())
	}
	return b.String()
}

// follows reports whether a token stands behind one of the words.
func follows(tokens []sqltext.Token, i int, words ...string) bool {
	for _, w := range words {
		if i > 0 && tokens[i-1].Is(w) {
			return true
		}
	}
	return false
}

func parameters(args []any) [][]byte {
	values := make([][]byte, len(args))
	for i, a := range args {
		switch a := a.(type) {
		case nil:
		case string:
			values[i] = []byte(a)
		case []byte:
			values[i] = []byte(`\x` + hex.EncodeToString(a))
		case float64:
			values[i] = strconv.AppendFloat(nil, a, 'g', -1, 64)
		default:
			values[i] = []byte(fmt.Sprint(a))
		}
	}
	return values
}

func exec(ctx context.Context, conn *pgconn.PgConn, sql string, args []any) (int64, error) {
	r := conn.ExecParams(ctx, translate(sql, len(args)), parameters(args), nil, nil, nil)
	tag, err := r.Close()
	return tag.RowsAffected(), failure(ctx, err)
}

// command runs a statement without parameters and gives its tag.
func command(ctx context.Context, conn *pgconn.PgConn, sql string) (string, error) {
	tag, err := conn.ExecParams(ctx, sql, nil, nil, nil, nil).Close()
	return tag.String(), failure(ctx, err)
}

// script runs several statements, as one transaction unless one is open.
func script(ctx context.Context, conn *pgconn.PgConn, sql string) error {
	_, err := conn.Exec(ctx, sql).ReadAll()
	return failure(ctx, err)
}

func query(ctx context.Context, conn *pgconn.PgConn, sql string, args []any) (*engine.Rows, error) {
	r := conn.ExecParams(ctx, translate(sql, len(args)), parameters(args), nil, nil, nil)
	out := &engine.Rows{}
	fields := r.FieldDescriptions()
	for _, f := range fields {
		out.Columns = append(out.Columns, f.Name)
	}
	for r.NextRow() {
		row := make([]any, len(fields))
		for i, v := range r.Values() {
			var err error
			if row[i], err = value(fields[i].DataTypeOID, v); err != nil {
				r.Close()
				return nil, err
			}
		}
		out.Values = append(out.Values, row)
	}
	_, err := r.Close()
	if err == nil && len(out.Columns) == 0 {
		for _, f := range r.FieldDescriptions() {
			out.Columns = append(out.Columns, f.Name)
		}
	}
	return out, failure(ctx, err)
}

// The types whose values are no text (pg_type.oid).
const (
	oidBool   = 16
	oidBytea  = 17
	oidInt8   = 20
	oidInt2   = 21
	oidInt4   = 23
	oidOID    = 26
	oidFloat4 = 700
	oidFloat8 = 701
)

func value(oid uint32, v []byte) (any, error) {
	if v == nil {
		return nil, nil
	}
	s := string(v)
	switch oid {
	case oidBool:
		return s == "t", nil
	case oidInt2, oidInt4, oidInt8, oidOID:
		return strconv.ParseInt(s, 10, 64)
	case oidFloat4, oidFloat8:
		return strconv.ParseFloat(s, 64)
	case oidBytea:
		return hex.DecodeString(strings.TrimPrefix(s, `\x`))
	}
	return s, nil
}

func text(v any) string {
	switch v := v.(type) {
	case nil:
		return ""
	case string:
		return v
	}
	return fmt.Sprint(v)
}

func number(v any) int64 {
	switch v := v.(type) {
	case int64:
		return v
	case string:
		n, _ := strconv.ParseInt(v, 10, 64)
		return n
	}
	return 0
}

func yes(v any) bool {
	b, _ := v.(bool)
	return b
}

// failure gives an error its type: [engine.Busy] where trying again helps,
// [engine.Violation] where a constraint stops a statement.
func failure(ctx context.Context, err error) error {
	var pe *pgconn.PgError
	if errors.Is(err, bounded.ErrTooLong) {
		return bounded.NotTaken(reason(err), err)
	}
	if !errors.As(err, &pe) {
		if err != nil && ctx.Err() == nil && !pgconn.Timeout(err) {
			return &engine.CannotOpen{Message: "the connection to the server was lost: " + err.Error(),
				Cure: "run the command again: it goes on where it stopped", Err: err}
		}
		return err
	}
	switch pe.Code {
	case "55P03", "40P01", "40001": // lock not available, deadlock, serialisation
		return &engine.Busy{Err: err}
	case "57014":
		if ctx.Err() != nil {
			return ctx.Err()
		}
	case "42P01", "3F000":
		return &engine.NoTable{Err: err}
	case "25006":
		return &engine.CannotOpen{Message: "the database can be read but not written",
			Cure: "connect to the primary server, not to a replica", Err: err}
	case "53100":
		return &engine.CannotOpen{Message: "the server's disk is full",
			Cure: "make room and run the command again: it goes on where it stopped", Err: err}
	case endedIdle:
		return &engine.CannotOpen{Message: "the server has ended the connection, since this program did nothing for too " +
			"long while others may have waited for its locks", Cure: "run the command again: it goes on where it stopped",
			Err: err}
	case "57P01", "57P02", "57P03":
		return &engine.CannotOpen{Message: "the server has ended the connection: " + pe.Message,
			Cure: "run the command again: it goes on where it stopped", Err: err}
	case "42501":
		return &engine.CannotOpen{Message: pe.Message, Cure: "grant it, or connect as the owner of the tables", Err: err}
	}
	rules := map[string]string{"23502": "not null", "23505": "unique", "23514": "check", "23503": "foreign key",
		"23P01": "unique"}
	if rule := rules[pe.Code]; rule != "" {
		v := &engine.Violation{Rule: rule, Table: pe.TableName, Name: pe.ConstraintName, Err: err}
		if pe.ColumnName != "" {
			v.Columns = []string{pe.ColumnName}
		}
		if list, ok := keyOf(pe.Detail); ok {
			v.Columns = list
		}
		return v
	}
	if pe.Detail != "" {
		return &serverError{pe}
	}
	return err
}

// keyOf reads the columns from a detail such as "Key (name, flag)=(…) already exists.".
func keyOf(detail string) ([]string, bool) {
	rest, ok := strings.CutPrefix(detail, "Key (")
	list, _, found := strings.Cut(rest, ")=")
	if !ok || !found {
		return nil, false
	}
	return strings.Split(list, ", "), true
}

// serverError is an error of the server with its detail.
type serverError struct{ *pgconn.PgError }

func (e *serverError) Error() string {
	return e.Message + " (" + strings.TrimSuffix(e.Detail, ".") + ")"
}

func (e *serverError) Unwrap() error { return e.PgError }
