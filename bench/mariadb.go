package main

import (
	"database/sql"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"time"

	"lastboard/test/server"
)

// roads is a MariaDB server of the benchmark's own, with a database that the others are
// copies of.
type roads struct {
	*bench
	*server.MariaDB
	copies int
}

const tableOptions = " engine=InnoDB character set utf8mb4 collate utf8mb4_nopad_bin"

// openRoads starts the server and fills the first database, with the same rows as that
// of PostgreSQL.
func (b *bench) openRoads() (*roads, error) {
	s, err := server.StartMariaDB("innodb-flush-log-at-trx-commit=1", "innodb-flush-method=fsync", "innodb-doublewrite=1",
		"innodb-buffer-pool-size=1G", "plugin-load-add=metadata_lock_info")
	if err != nil {
		return nil, err
	}
	r := &roads{bench: b, MariaDB: s}
	err = r.Exec("", "create database first")
	if err == nil {
		err = r.exec("first", "create table berth (id integer primary key)"+tableOptions,
			"insert into berth select seq from seq_1_to_100",
			`create table "call" (id bigint auto_increment primary key, n integer not null, berth_id integer, code varchar(40), note varchar(200), filler varchar(200), x integer, key call_n (n), key call_berth (berth_id))`+tableOptions,
			fmt.Sprintf(`insert into "call" (n, berth_id, code, note, filler) select floor(rand() * 1e9), 1 + seq %% 100, concat('C', seq), 'n', repeat('x', 90) from seq_1_to_%d`, *rows))
	}
	if err != nil {
		s.Stop()
		return nil, err
	}
	return r, nil
}

func (r *roads) open(database string) (*sql.DB, error) {
	return sql.Open("mysql", server.DSN(r.URL(database)))
}

func (r *roads) exec(database string, statements ...string) error {
	db, err := r.open(database)
	if err != nil {
		return err
	}
	defer db.Close()
	db.SetMaxOpenConns(1)
	for _, s := range statements {
		if _, err := db.Exec(s); err != nil {
			return fmt.Errorf("%s: %w", s, err)
		}
	}
	return nil
}

// fresh makes a copy of the first database, and a project for it.
func (r *roads) fresh(live bool, migration string) (database, project string, err error) {
	r.copies++
	database = fmt.Sprintf("copy_%d", r.copies)
	if err := r.Exec("", "create database "+database); err != nil {
		return "", "", err
	}
	if err := r.exec(database, "create table berth like first.berth", "insert into berth select * from first.berth",
		`create table "call" like first."call"`, `insert into "call" select * from first."call"`,
		`analyze table "call"`); err != nil {
		return "", "", err
	}
	if err := r.purged(); err != nil {
		return "", "", err
	}
	project = filepath.Join(r.dir, database)
	config := fmt.Sprintf("database = 'dev'\n[databases.dev]\nurl = '%s'\nlive = %v\n", r.URL(database), live)
	if err := os.MkdirAll(filepath.Join(project, "migrations"), 0o777); err != nil {
		return "", "", err
	}
	if err := os.WriteFile(filepath.Join(project, "lastboard.toml"), []byte(config), 0o666); err != nil {
		return "", "", err
	}
	if _, err := r.lastboard(project, "adopt", "--yes"); err != nil {
		return "", "", err
	}
	return database, project, os.WriteFile(filepath.Join(project, "migrations", "0002-change.sql"),
		[]byte("-- A change\n"+migration+";\n"), 0o666)
}

// purged waits until the server has cleared away after what was done before.
func (r *roads) purged() error {
	db, err := r.open("first")
	if err != nil {
		return err
	}
	defer db.Close()
	const many = 100 // transactions
	for left := many; left >= many; time.Sleep(200 * time.Millisecond) {
		if err := db.QueryRow("select count from information_schema.innodb_metrics where name = 'trx_rseg_history_len'").Scan(
			&left); err != nil {
			return err
		}
	}
	return nil
}

// mariadbBackfill compares backfills with one update of the whole table.
func (b *bench) mariadbBackfill() error {
	r, err := b.openRoads()
	if err != nil {
		return err
	}
	defer r.Stop()
	return backfills("MariaDB", r, 1.1)
}

// mariadbRecipes are changes of a large live table that have a way without blocking, and
// the plain statements for each.
var mariadbRecipes = []struct{ what, migration, plain string }{
	{"not null", "alter table call alter note set not null",
		`alter table "call" modify note varchar(200) not null, algorithm=copy`},
	{"foreign key", "alter table call add constraint at_berth foreign key (berth_id) references berth",
		`alter table "call" add constraint at_berth foreign key (berth_id) references berth (id)`},
	{"unique", "alter table call add constraint one_code unique (code)",
		`alter table "call" add constraint one_code unique (code), algorithm=copy`},
	{"index", "create index call_code on call (code)", `alter table "call" add key call_code (code), algorithm=copy`},
	{"default computed per row", "alter table call add token uuid default uuid()",
		`alter table "call" add token uuid default uuid()`},
	{"wider type", "alter table call alter code set data type varchar(60)",
		`alter table "call" modify code varchar(60), algorithm=copy`},
	{"column with using", "alter table call add tag varchar(60) using (code || '!')",
		`alter table "call" add tag varchar(60); update "call" set tag = code || '!'`},
}

// mariadbWaits prints how long a writer waits at most while a large table is changed, with
// a reader that stays idle in a transaction for two seconds.
func (b *bench) mariadbWaits() error {
	r, err := b.openRoads()
	if err != nil {
		return err
	}
	defer r.Stop()
	for _, c := range mariadbRecipes {
		var found []waits
		for _, plain := range []bool{false, true} {
			database, project, err := r.fresh(true, c.migration)
			if err != nil {
				return err
			}
			w, err := underLoad(func() (*sql.DB, error) { return r.open(database) }, func() error {
				if plain {
					return r.exec(database, strings.Split(c.plain, "; ")...)
				}
				_, err := r.lastboard(project, "advance", "--yes")
				return err
			})
			if err != nil {
				return fmt.Errorf("%s: %w", c.what, err)
			}
			if err := r.Drop(database); err != nil {
				return err
			}
			found = append(found, w)
		}
		ours, plain := found[0], found[1]
		fmt.Printf("MariaDB, %d rows, %s: an insert waits at most %.0f ms, an update of a row %.0f ms (at most 250 "+
			"wanted; row locks of a batch 150); the plain statement: %.0f, %.0f ms; took %.1f s, %.1f s\n",
			*rows, c.what, ms(ours.insert), ms(ours.update), ms(plain.insert), ms(plain.update), ours.took.Seconds(),
			plain.took.Seconds())
	}
	return nil
}
