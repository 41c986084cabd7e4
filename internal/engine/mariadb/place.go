package mariadb

import (
	"context"
	"crypto/rand"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"slices"
	"strings"
	"sync"

	"lastboard/internal/engine"
	"lastboard/internal/sqltext"
)

// The ledger is the runner's own. An application has every right on its database, so the
// ledger stands in a database beside it, to which applications have none; both are written in
// the same transactions. What a trigger of ours names stands in the application's database:
// no trigger may name another one, or a copy of the database would write to the first.

// identity is a table that both databases have, with one row: by it a database knows its
// ledger, and a ledger its database.
const identity = "lastboard_id"

// place says where the ledger of a session's database is.
type place struct {
	database string // the name of the ledger's own database
	here     bool   // it stands in the database that is changed
	known    sync.Map
}

// placeName gives the name of the database for the ledger of another one: 64 characters at
// most, and never that of a trial.
func placeName(of string) string {
	trial := strings.TrimPrefix(scratch, engine.Prefix)
	if len([]rune(of)) <= 54 && !strings.HasPrefix(strings.ToLower(of), trial) {
		return engine.Prefix + of
	}
	sum := sha256.Sum256([]byte(of))
	return engine.Prefix + string([]rune("of_" + of)[:min(42, len([]rune(of))+3)]) + "_" + hex.EncodeToString(sum[:5])
}

// ledgerTables are the tables of the ledger; the core gives their names without quotes.
var ledgerTables = []string{"meta", "entry", "migration", "step", "backfill", "kept", "runner", "table", "work", "pace",
	"plan", "note"}

// of writes the names of the ledger's tables in a statement of the core with their database.
func (p *place) of(sql string) string {
	if p == nil || p.here || !strings.Contains(sql, engine.Prefix) {
		return sql
	}
	if done, ok := p.known.Load(sql); ok {
		return done.(string)
	}
	tokens, _ := sqltext.Scan(sql, sqltext.Migration)
	var b strings.Builder
	last, found := 0, false
	for i, t := range tokens {
		name, ours := strings.CutPrefix(t.Value, engine.Prefix)
		if t.Kind != sqltext.Word || !ours || !slices.Contains(ledgerTables, name) || i == 0 || tokens[i+1].Is(".") ||
			tokens[i-1].Is(".") ||
			!slices.ContainsFunc([]string{"from", "into", "update", "table", "exists", "join"}, tokens[i-1].Is) {
			continue
		}
		b.WriteString(sql[last:t.Pos.Offset] + quote(p.database) + "." + quote(t.Value))
		last, found = t.End(), true
	}
	b.WriteString(sql[last:])
	if found { // those of the core alone, which are few
		p.known.Store(sql, b.String())
	}
	return b.String()
}

// locate finds out where the ledger is: in its own database, unless an earlier version or a
// setting of the project has put it into the one that is changed.
func (d *database) locate(ctx context.Context) error {
	d.place.here = d.here
	if d.here {
		return nil
	}
	_, err := d.session.query(ctx, "select 1 from "+quote(d.place.database)+".lastboard_meta limit 1")
	if code(err) != errNoTable && code(err) != errNoDatabase {
		return nil // it is there, or may not be looked at: which is said when it is read
	}
	was, err := d.stands(ctx, d.config.DBName, "lastboard_meta")
	d.place.here = was
	return err
}

// stands reports whether a database has a table.
func (d *database) stands(ctx context.Context, database, table string) (bool, error) {
	r, err := d.query(ctx, "select 1 from information_schema.tables where table_schema = ? and table_name = ? and "+
		"table_type = 'BASE TABLE'", database, table)
	return err == nil && len(r.Values) > 0, err
}

// Belongs implements engine.Guarded.
func (d *database) Belongs(ctx context.Context, found bool) error {
	if d.place.here {
		return nil
	}
	mine, err := d.identity(ctx, d.config.DBName)
	if err != nil {
		return err
	}
	if !found {
		if mine == "" {
			return nil
		}
		return d.cannot("the ledger of database "+d.config.DBName+" is not on this server: it was database "+d.place.database+
			" where this one comes from",
			"if this is a copy or was restored, bring "+d.place.database+
				" here, too; to begin anew with the tables as they are: drop table "+identity+", then lastboard adopt", nil)
	}
	its, err := d.identity(ctx, d.place.database)
	if err != nil || its == "" || its == mine {
		return err
	}
	return d.cannot("the ledger in database "+d.place.database+" belongs to another database than "+d.config.DBName+
		" is now: it was made anew, or restored from elsewhere",
		"if it was made anew: drop database "+d.place.database+"; if it was restored, bring its own ledger back beside it",
		nil)
}

// Guard implements engine.Guarded.
func (d *database) Guard(ctx context.Context, made bool) (done []string, err error) {
	if err := d.locate(ctx); err != nil {
		return nil, err
	}
	if d.here {
		return nil, nil
	}
	if made && d.place.here {
		return nil, fmt.Errorf("the ledger has come to stand in database %s", d.config.DBName)
	}
	if _, err := d.exec(ctx, "create database if not exists "+quote(d.place.database)+" character set utf8mb4 collate "+
		bytewise); err != nil {
		return nil, d.denied("user "+d.account+" may make no database "+d.place.database+
			", in which the ledger is, out of the reach of applications", err)
	}
	if err := d.ownPlace(ctx); err != nil {
		return nil, err
	}
	if d.place.here {
		if err := d.bringAway(ctx); err != nil {
			return nil, err
		}
		d.place.here = false
		done = append(done, "the ledger's tables from the database itself, into database "+d.place.database+
			", which applications do not reach")
	}
	return done, d.identify(ctx)
}

// denied says which right the ledger's own database wants.
func (d *database) denied(message string, err error) error {
	return d.cannot(message, "grant all on `"+strings.ReplaceAll(d.place.database, "_", `\_`)+"`.* to "+d.account+
		`; or, if that cannot be, ledger = "here" under the database in lastboard.toml`, err)
}

// Query implements engine.Database.
func (d *database) Query(ctx context.Context, sql string, args ...any) (*engine.Rows, error) {
	r, err := d.query(ctx, sql, args...)
	if c := code(err); !d.place.here && (c == errNoDatabaseRight || c == errNoTableRight) &&
		strings.Contains(sql, "lastboard_meta") {
		err = d.denied("user "+d.account+" may not look into database "+d.place.database+", in which the ledger is", err)
	}
	return r, err
}

// ownPlace refuses a place for the ledger to which others may write, as far as the user may
// see that, and one that the server leaves out of its binary log.
func (d *database) ownPlace(ctx context.Context) error {
	r, err := d.query(ctx, `
		select distinct concat(user, case when host = '' then '' else concat('@', host) end) from (
			select user, host from mysql.db where ? like db escape '\' and 'Y' in (insert_priv, update_priv, delete_priv, create_priv, drop_priv, alter_priv, trigger_priv)
			union select user, host from mysql.tables_priv where db = ? and (table_priv like '%Insert%' or table_priv like '%Update%' or table_priv like '%Delete%' or table_priv like '%Alter%' or table_priv like '%Drop%' or table_priv like '%Trigger%')
		) others where concat(user, '@', host) <> current_user() and user not in (select role_name from information_schema.applicable_roles) order by 1`, d.place.database, d.place.database)
	if err == nil && len(r.Values) > 0 {
		var who []string
		for _, v := range r.Values {
			who = append(who, text(v[0]))
		}
		return d.cannot("others may write to the ledger, in database "+d.place.database+": "+strings.Join(who, ", ")+
			"; what stands in it cannot be trusted",
			"take the right from them, or grant it to a role that the runners share; look whether the ledger is as it was left",
			nil)
	}
	if r, err = d.query(ctx, "show master status"); err != nil || len(r.Values) == 0 {
		return nil // there is no binary log, or this user may not look
	}
	names := func(v any) []string { return strings.FieldsFunc(text(v), func(c rune) bool { return c == ',' }) }
	only, never := names(r.Values[0][2]), names(r.Values[0][3])
	if len(only) > 0 && !slices.Contains(only, d.place.database) || slices.Contains(never, d.place.database) {
		return d.cannot("the server leaves database "+d.place.database+
			" out of its binary log: replicas and restored copies would not have the ledger",
			"let binlog_do_db or binlog_ignore_db of the server take it in", nil)
	}
	return nil
}

// bringAway moves the ledger's tables from the database that is changed, all at once.
func (d *database) bringAway(ctx context.Context) error {
	var moves []string
	for _, t := range ledgerTables {
		there, err := d.stands(ctx, d.config.DBName, engine.Prefix+t)
		if err != nil {
			return err
		}
		if there {
			moves = append(moves, quote(engine.Prefix+t)+" to "+quote(d.place.database)+"."+quote(engine.Prefix+t))
		}
	}
	_, err := d.exec(ctx, "rename table "+strings.Join(moves, ", "))
	return err
}

// identify gives the database and its ledger one identity where the ledger is new.
func (d *database) identify(ctx context.Context) error {
	if there, err := d.stands(ctx, d.place.database, "lastboard_meta"); err != nil || !there {
		return err
	}
	if its, err := d.identity(ctx, d.place.database); err != nil || its != "" {
		return err
	}
	token := make([]byte, 16)
	if _, err := rand.Read(token); err != nil {
		return err
	}
	// The database gets it first: a ledger that has one has been whole.
	for _, database := range []string{d.config.DBName, d.place.database} {
		table := quote(database) + "." + quote(identity)
		for _, sql := range []string{"create table if not exists " + table + " (id varchar(32) not null primary key)" +
			ownOptions, "delete from " + table, "insert into " + table + " values ('" + hex.EncodeToString(token) + "')"} {
			if _, err := d.exec(ctx, sql); err != nil {
				return err
			}
		}
	}
	return nil
}

// identity reads that of a database or of its ledger; "" for none.
func (d *database) identity(ctx context.Context, database string) (string, error) {
	r, err := d.query(ctx, "select id from "+quote(database)+"."+quote(identity))
	if code(err) == errNoTable || err == nil && len(r.Values) == 0 {
		return "", nil
	}
	if err != nil {
		return "", err
	}
	return text(r.Values[0][0]), nil
}
