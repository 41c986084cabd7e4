package sqlite

import (
	"context"
	"database/sql"
	"errors"
	"slices"
	"strings"
	"unicode"

	"lastboard/internal/engine"
	"lastboard/internal/schema"
)

// roomy is how many objects a copy holds before those that a change does not touch are
// parked beside it as text: after most changes of a table SQLite reads the definitions of
// all the existing ones once more.
const roomy = 20

// gather sees to it that what a change and its steps could touch is in the copy, and parks
// the rest once there is much of it.
func (t *trial) gather(ctx context.Context, s *schema.Schema, c *schema.Change, steps []*engine.Step) error {
	if c.Native != nil {
		return t.unpark(ctx, nil)
	}
	touched := touching(s, concerned(s, c), steps)
	if err := t.unpark(ctx, touched); err != nil {
		return err
	}
	here, err := t.query(ctx, selectObjects)
	if err != nil || len(here.Values) < roomy {
		return err
	}
	var leave [][]any
	for _, row := range here.Values {
		if n := strings.ToLower(text(row[2])); text(row[0]) != "view" && !strings.HasPrefix(n, engine.Prefix) && !touched[n] {
			leave = append(leave, row)
		}
	}
	if len(leave) < len(here.Values)/2 {
		return nil
	}
	return t.park(ctx, leave)
}

// touching lists the tables that have to be there: those that a change concerns, those
// that a view, a trigger or a step names or whose indexes one does, what is tied to any of
// these by foreign keys, and what is not understood.
func touching(s *schema.Schema, names map[string]bool, steps []*engine.Step) map[string]bool {
	words := map[string]bool{}
	for _, v := range s.Views {
		addWords(words, v.SQL)
	}
	for _, t := range s.Tables {
		for _, tr := range slices.Concat(t.Triggers, t.Own) {
			addWords(words, tr.SQL)
			addWords(words, t.Name)
		}
	}
	for _, step := range steps {
		addWords(words, step.SQL...)
		addWords(words, step.Mend...)
		if step.Proof != nil {
			addWords(words, step.Proof.SQL, step.Proof.Count)
		}
		if step.Batch != nil {
			addWords(words, step.Batch.Upper, step.Batch.Next)
		}
	}
	named := func(n string) bool {
		return words[strings.ToLower(n)] || strings.ContainsFunc(n, func(r rune) bool { return !inWord(r) })
	}
	touched := map[string]bool{}
	for _, t := range s.Tables {
		n := strings.ToLower(t.Name)
		touched[n] = names[n] || t.Opaque != "" || named(n) ||
			slices.ContainsFunc(t.Indexes, func(x *schema.Index) bool { return named(x.Name) }) ||
			slices.ContainsFunc(t.Uniques, func(k *schema.Key) bool { return named(k.Name) })
	}
	for size := -1; size != count(touched); {
		size = count(touched)
		for _, t := range s.Tables {
			for _, k := range t.ForeignKeys {
				child, parent := strings.ToLower(t.Name), strings.ToLower(k.Table)
				touched[child], touched[parent] = touched[child] || touched[parent], touched[child] || touched[parent]
			}
		}
	}
	return touched
}

func count(set map[string]bool) (n int) {
	for _, in := range set {
		if in {
			n++
		}
	}
	return n
}

func inWord(r rune) bool { return r == '_' || unicode.IsLetter(r) || unicode.IsDigit(r) }

func addWords(words map[string]bool, texts ...string) {
	for _, text := range texts {
		for word := range strings.FieldsFuncSeq(strings.ToLower(text), func(r rune) bool { return !inWord(r) }) {
			words[word] = true
		}
	}
}

// park goes on in a new copy, which has all but some objects.
func (t *trial) park(ctx context.Context, leave [][]any) error {
	gone := map[string]bool{}
	for _, row := range leave {
		gone[text(row[0])+" "+text(row[1])] = true
	}
	all, err := t.query(ctx, selectCopy)
	if err != nil {
		return err
	}
	room, err := newRoom(ctx)
	if err != nil {
		return err
	}
	for _, row := range all.Values {
		if !gone[text(row[1])+" "+text(row[2])] {
			if _, err := room.conn.ExecContext(ctx, text(row[0])); err != nil {
				return errors.Join(err, room.Close())
			}
		}
	}
	if err := copyNotes(ctx, t.query, room.conn); err != nil {
		return errors.Join(err, room.Close())
	}
	err = t.room.Close()
	t.room, t.parked = room, append(t.parked, leave...)
	return err
}

// unpark brings tables back into the copy; nil stands for all.
func (t *trial) unpark(ctx context.Context, tables map[string]bool) error {
	var back [][]any
	t.parked = slices.DeleteFunc(t.parked, func(row []any) bool {
		comes := tables == nil || tables[strings.ToLower(text(row[2]))]
		if comes {
			back = append(back, row)
		}
		return comes
	})
	for _, tables := range []bool{true, false} {
		for _, row := range back {
			if (text(row[0]) == "table") != tables || text(row[3]) == "" {
				continue
			}
			if _, err := t.conn.ExecContext(ctx, text(row[3])); err != nil {
				return err
			}
		}
	}
	return nil
}

// room is a database in memory, of one connection.
type room struct {
	pool *sql.DB
	conn *sql.Conn
}

func newRoom(ctx context.Context) (room, error) {
	pool, err := sql.Open("sqlite", "file::memory:")
	if err != nil {
		return room{}, err
	}
	conn, err := pool.Conn(ctx)
	if err != nil {
		return room{}, errors.Join(err, pool.Close())
	}
	return room{pool, conn}, nil
}

func (r room) Close() error { return errors.Join(r.conn.Close(), r.pool.Close()) }
