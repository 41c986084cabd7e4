package main

import (
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"
)

// rebuild compares the copy of a table with three indexes with the same done by hand
// in one script through the same driver.
func (b *bench) rebuild() error {
	var ours, plain []time.Duration
	indexes := []string{"create index by_name on vessel (name)", "create index by_flag on vessel (flag, length_ft desc)",
		"create index by_dues on vessel (dues) where dues > 0"}
	for range *rounds {
		project, path, err := b.office("rebuild", *rows, false)
		if err != nil {
			return err
		}
		text := "-- Indexes\n" + strings.Join(indexes, ";\n") + ";\n"
		if err := os.WriteFile(filepath.Join(project, "migrations", "0002-code.sql"), []byte(text), 0o666); err != nil {
			return err
		}
		if _, err := b.lastboard(project, "advance", "--yes"); err != nil {
			return err
		}
		// A database of its own for the plain way, so that both start alike.
		data, err := os.ReadFile(path)
		if err != nil {
			return err
		}
		other := filepath.Join(b.dir, "plain.db")
		if err := os.WriteFile(other, data, 0o666); err != nil {
			return err
		}
		began := time.Now()
		err = execAll(other, append(append([]string{
			"pragma foreign_keys = off", "begin immediate",
			"create table vessel_copy (id integer primary key, name text not null, flag text, length_ft real, dues numeric " +
				"default 5)",
			"insert into vessel_copy select * from vessel", "drop table vessel", "alter table vessel_copy rename to vessel",
		}, indexes...), "commit")...)
		if err != nil {
			return err
		}
		plain = append(plain, time.Since(began))
		text = "-- Copy\nalter table vessel alter column dues set default 5;\n"
		if err := os.WriteFile(filepath.Join(project, "migrations", "0003-copy.sql"), []byte(text), 0o666); err != nil {
			return err
		}
		u, err := b.lastboard(project, "advance", "--yes")
		if err != nil {
			return err
		}
		ours = append(ours, u.wall)
	}
	report(fmt.Sprintf("copy of a table with three indexes, %d rows", *rows), slices.Min(ours), slices.Min(plain), 1.3)
	return nil
}
