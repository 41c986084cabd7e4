package test

import (
	"fmt"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"strconv"
	"strings"
	"testing"

	"lastboard/test/server"
)

// smallDisk mounts a file system in memory of some megabytes on a folder, for a user.
func smallDisk(t *testing.T, folder, owner string, megabytes int) {
	t.Helper()
	if err := os.MkdirAll(folder, 0o755); err != nil {
		t.Fatal(err)
	}
	out, err := exec.Command("mount", "-t", "tmpfs", "-o", fmt.Sprintf("size=%dm", megabytes), "lastboard-test",
		folder).CombinedOutput()
	if err != nil {
		t.Fatalf("a small disk can be mounted by root alone: sudo make test\n%v\n%s", err, out)
	}
	t.Cleanup(func() { exec.Command("umount", "-l", folder).Run() })
	if owner == "" {
		return
	}
	u, err := user.Lookup(owner)
	if err != nil {
		t.Fatal(err)
	}
	uid, _ := strconv.Atoi(u.Uid)
	gid, _ := strconv.Atoi(u.Gid)
	if err := os.Chown(folder, uid, gid); err != nil {
		t.Fatal(err)
	}
}

// grow gives the file system more room.
func grow(t *testing.T, folder string, megabytes int) {
	t.Helper()
	if out, err := exec.Command("mount", "-o", fmt.Sprintf("remount,size=%dm", megabytes),
		folder).CombinedOutput(); err != nil {
		t.Fatalf("%v\n%s", err, out)
	}
}

// fullDisk runs a change that the disk has no room for, forward and back: it says so, no
// row is lost, and once there is room it goes on.
func (o *office) fullDisk(folder, statement, query, want string) {
	o.Helper()
	start := o.snapshot()
	o.migration("0002-change", "-- A change\n"+statement+";\n")
	r := o.run(forward...)
	if r.code != 1 && r.code != 4 {
		o.Errorf("%s: wanted it to fail, got %s", statement, r)
	}
	if said := r.String(); !strings.Contains(said, "full") && !strings.Contains(said, "No space left") {
		o.Errorf("%s: it does not say that the disk is full: %s", statement, said)
	}
	if r.code == 1 {
		o.wants(r, "nothing was changed")
		o.unchanged(start)
	} else {
		o.wants(r, "goes on from here, retreat", " takes it back")
	}
	o.wants(o.code(0, "status"), map[int]string{1: "waiting", 4: "stopped"}[r.code])
	grow(o.T, folder, 400)
	o.must(forward...)
	o.same(query, want)
	o.wants(o.code(0, "audit"), "matches:")
	o.must(back...)
	o.unchanged(start)
	os.Remove(filepath.Join(o.dir, "migrations", "0002-change.sql"))
}

// TestFullDisk is a change that the disk has no room for, on each engine.
func TestFullDisk(t *testing.T) {
	beside(t)
	const rows = 20_000
	const pad = "abcdefghijklmnopqrstuvwxyzabcdefghijklmnopqrstuvwxyzabcdefghijklmnopqrstuvwxyzabcdefghijklmnopqrstuvwxyz"
	pace := "live = true\n[databases.dev.pace]\nbatch_time = '20ms'\nlock_wait = '20ms'\n"
	fill := "backfill vessel set note = note || note || note || note || note"
	t.Run("SQLite", func(t *testing.T) {
		for _, c := range []struct{ what, statement, query, want string }{
			{"a fill", fill, "select min(length(note)) from vessel", "520"},
			{"a copy", "alter table vessel rebuild, alter tons set default 7", "select count(*) from vessel", "20000"},
			{"an index", "create index by_note on vessel (note, id)",
				"select count(*) from sqlite_schema where name = 'by_note'", "1"},
		} {
			t.Run(c.what, func(t *testing.T) {
				o := &office{T: t, dir: t.TempDir()}
				disk := filepath.Join(o.dir, "disk")
				smallDisk(t, disk, "", 20)
				o.must("init", "--url", "sqlite:disk/harbour.db")
				if err := os.Symlink(filepath.Join("disk", "harbour.db"), filepath.Join(o.dir, "harbour.db")); err != nil {
					t.Fatal(err)
				}
				o.migration("0001-first", fmt.Sprintf("-- First\ncreate table vessel (id integer primary key, note text, tons "+
					"integer);\ninsert into vessel (id, note) with recursive s(n) as (select 1 union all select n + 1 from s "+
					"where n < %d) select n, '%s' from s;\n", rows, pad))
				o.must("advance", "--yes")
				grow(t, disk, used(t, disk)+1)
				o.write("lastboard.toml", "database = 'dev'\n[databases.dev]\nurl = 'sqlite:disk/harbour.db'\n"+pace)
				o.fullDisk(disk, c.statement, c.query, c.want)
			})
		}
	})
	t.Run("PostgreSQL", func(t *testing.T) {
		p, err := server.StartPostgres()
		if err != nil {
			t.Fatal(err)
		}
		t.Cleanup(func() { p.Stop() })
		disk := filepath.Join(p.Dir, "disk")
		smallDisk(t, disk, "postgres", 40)
		name, err := p.Database()
		if err != nil {
			t.Fatal(err)
		}
		o := &office{T: t, dir: t.TempDir(), url: p.URL(name)}
		o.exec("create tablespace small location '"+disk+"'",
			"create table vessel (id integer primary key, note text, tons integer) tablespace small",
			fmt.Sprintf("insert into vessel select g, '%s', null from generate_series(1, %d) g", pad, rows), "checkpoint")
		o.must("init", "--url", o.url)
		o.must("adopt", "--yes")
		o.write("lastboard.toml", "database = 'dev'\n[databases.dev]\nurl = '"+o.url+"'\n"+pace)
		for _, c := range []struct{ statement, query, want string }{
			{fill, "select min(length(note)) from vessel", "520"},
			{"alter table vessel alter id set data type bigint", "select sum(id) from vessel", "200010000"},
		} {
			o.exec("vacuum full vessel", "checkpoint")
			grow(t, disk, used(t, disk)+1)
			o.fullDisk(disk, c.statement, c.query, c.want)
		}
	})
	t.Run("MariaDB", func(t *testing.T) {
		m, err := server.StartMariaDB("innodb-flush-method=fsync", "innodb-doublewrite=1", "innodb-flush-log-at-trx-commit=2")
		if err != nil {
			t.Fatal(err)
		}
		t.Cleanup(func() { m.Stop() })
		name, err := m.Database()
		if err != nil {
			t.Fatal(err)
		}
		disk := filepath.Join(m.Dir, "data", name)
		smallDisk(t, disk, "mysql", 60)
		o := &office{T: t, dir: t.TempDir(), url: m.URL(name)}
		o.exec("create table vessel (id integer primary key, note longtext, tons integer) engine=InnoDB character set "+
			"utf8mb4 collate utf8mb4_nopad_bin",
			fmt.Sprintf("insert into vessel select seq, '%s', null from seq_1_to_%d", pad, rows))
		o.must("init", "--url", o.url)
		o.must("adopt", "--yes")
		o.write("lastboard.toml", "database = 'dev'\n[databases.dev]\nurl = '"+o.url+"'\n"+pace)
		for _, c := range []struct{ statement, query, want string }{
			{"alter table vessel alter tons set data type bigint",
				"select count(*) from information_schema.columns where table_schema = database() and table_name = 'vessel' " +
					"and column_type like 'bigint%'", "1"},
		} {
			o.exec("alter table vessel force")
			grow(t, disk, used(t, disk)+2)
			o.fullDisk(disk, c.statement, c.query, c.want)
		}
	})
}

// used gives how many megabytes a file system holds, rounded up.
func used(t *testing.T, folder string) int {
	t.Helper()
	out, err := exec.Command("df", "-B", "1M", "--output=used", folder).Output()
	if err != nil {
		t.Fatal(err)
	}
	n, err := strconv.Atoi(strings.TrimSpace(strings.TrimPrefix(strings.TrimSpace(string(out)), "Used")))
	if err != nil {
		t.Fatal(err)
	}
	return n
}
