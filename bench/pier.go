package main

import (
	"database/sql"
	"errors"
	"fmt"
	"os"
	"path/filepath"
)

// pier is a folder of SQLite databases, each a copy of the first.
type pier struct {
	*bench
	first  string
	copies int
}

// openPier makes the first database, with the same rows as those of the servers.
func (b *bench) openPier() (*pier, error) {
	p := &pier{bench: b, first: filepath.Join(b.dir, "first.db")}
	return p, execAll(p.first, "pragma journal_mode = wal", "create table berth (id integer primary key)",
		"insert into berth with recursive s(n) as (select 1 union all select n + 1 from s where n < 100) select n from s",
		`create table "call" (id integer primary key autoincrement, n integer not null, berth_id integer, code varchar(40), `+
			`note varchar(200), filler varchar(200), x integer)`,
		fmt.Sprintf(`insert into "call" (n, berth_id, code, note, filler) with recursive s(n) as (select 1 union all select `+
			`n + 1 from s where n < %d) select abs(random()) %% 1000000000, 1 + n %% 100, 'C' || n, 'n', `+
			`'%090d' from s`, *rows, 0),
		`create index call_n on "call" (n)`, `create index call_berth on "call" (berth_id)`, "pragma wal_checkpoint(truncate)")
}

func (p *pier) file(database string) string { return filepath.Join(p.dir, database, "harbour.db") }

func (p *pier) open(database string) (*sql.DB, error) { return open(p.file(database)) }

func (p *pier) drop(database string) error { return os.RemoveAll(filepath.Join(p.dir, database)) }

// fresh makes a copy of the first database, and a project for it.
func (p *pier) fresh(live bool, migration string) (database, project string, err error) {
	p.copies++
	database = fmt.Sprintf("pier_%d", p.copies)
	project = filepath.Join(p.dir, database)
	rows, err := os.ReadFile(p.first)
	if err == nil {
		err = os.MkdirAll(filepath.Join(project, "migrations"), 0o777)
	}
	if err != nil {
		return "", "", err
	}
	config := fmt.Sprintf("database = 'dev'\n[databases.dev]\nurl = 'sqlite:harbour.db'\nlive = %v\n", live)
	err = errors.Join(os.WriteFile(p.file(database), rows, 0o666),
		os.WriteFile(filepath.Join(project, "lastboard.toml"), []byte(config), 0o666))
	if err == nil {
		_, err = p.lastboard(project, "adopt", "--yes")
	}
	if err != nil {
		return "", "", err
	}
	return database, project, os.WriteFile(filepath.Join(project, "migrations", "0002-change.sql"),
		[]byte("-- A change\n"+migration+";\n"), 0o666)
}
