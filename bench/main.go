// Bench compares Lastboard with the engine's own statements in one run, and
// prints ratios: times alone say more of the machine than of the program.
package main

import (
	"bytes"
	"database/sql"
	"encoding/json"
	"errors"
	"flag"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"time"

	_ "modernc.org/sqlite"
)

var (
	rows   = flag.Int("rows", 1_000_000, "rows of the table")
	only   = flag.Int("only", 0, "the number of one comparison; 0 means all")
	kinds  = flag.String("kinds", "", "of forecasts, those of the changes whose name holds this")
	on     = flag.String("on", "", "of forecasts, those on the engine whose name holds this")
	rounds = flag.Int("rounds", 3, "rounds of each comparison; the least time counts")
)

func main() {
	flag.Parse()
	if err := run(); err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
}

// bench is a folder with the program and the databases.
type bench struct {
	dir     string
	program string
}

func run() error {
	dir, err := os.MkdirTemp("", "lastboard-bench")
	if err != nil {
		return err
	}
	defer os.RemoveAll(dir)
	b := &bench{dir, filepath.Join(dir, "lastboard")}
	if err := command("go", "build", "-trimpath", "-ldflags", "-s -w", "-o", b.program,
		"lastboard/cmd/lastboard"); err != nil {
		return err
	}
	parts := []func() error{b.addColumn, b.memory, b.writerWaits, b.start, b.checkMany, b.rebuild, b.serverBackfill,
		b.serverWaits, b.mariadbBackfill, b.mariadbWaits, b.calm, b.forecasts}
	for i, part := range parts {
		if *only > 0 && *only != i+1 {
			continue
		}
		b.dir = filepath.Join(dir, fmt.Sprint(i+1)) // each has a folder of its own
		if err := os.Mkdir(b.dir, 0o777); err != nil {
			return err
		}
		if err := part(); err != nil {
			return err
		}
	}
	return nil
}

func command(name string, args ...string) error {
	out, err := exec.Command(name, args...).CombinedOutput()
	if err != nil {
		return fmt.Errorf("%s %s: %w\n%s", name, strings.Join(args, " "), err, out)
	}
	return nil
}

// usage is what a run of the program took.
type usage struct {
	wall   time.Duration
	memory int64 // at its most, in bytes
}

func (b *bench) lastboard(project string, args ...string) (usage, error) {
	c := exec.Command(b.program, args...)
	c.Dir = project
	var out bytes.Buffer
	c.Stdout, c.Stderr = &out, &out
	began := time.Now()
	err := c.Run()
	u := usage{wall: time.Since(began)}
	if err != nil {
		return u, fmt.Errorf("lastboard %s: %w\n%s", strings.Join(args, " "), err, out.String())
	}
	if r, ok := c.ProcessState.SysUsage().(*syscall.Rusage); ok {
		u.memory = r.Maxrss * 1024
	}
	return u, nil
}

// spent gives how long the steps of each kind of the change took, by the ledger.
func (b *bench) spent(project string) (map[string]time.Duration, error) {
	c := exec.Command(b.program, "ledger", "2", "--json")
	c.Dir = project
	out, err := c.Output()
	if err != nil {
		return nil, err
	}
	var said struct {
		Steps []struct {
			Kind    string
			Seconds float64
		}
	}
	if err := json.Unmarshal(out, &said); err != nil {
		return nil, err
	}
	by := map[string]time.Duration{}
	for _, s := range said.Steps {
		by[s.Kind] += time.Duration(s.Seconds * float64(time.Second))
	}
	return by, nil
}

func open(path string) (*sql.DB, error) {
	db, err := sql.Open("sqlite", "file:"+path+"?_pragma=busy_timeout(20000)&_pragma=foreign_keys(1)")
	if err == nil {
		db.SetMaxOpenConns(1)
	}
	return db, err
}

func execAll(path string, statements ...string) error {
	db, err := open(path)
	if err != nil {
		return err
	}
	for _, s := range statements {
		if _, err := db.Exec(s); err != nil {
			return errors.Join(fmt.Errorf("%s: %w", s, err), db.Close())
		}
	}
	return db.Close()
}

const expression = "'V' || upper(substr(name, 1, 3)) || '-' || cast(id as text)"

// office makes a project with one table of n rows under care, and a migration
// that adds a not null column with an expression.
func (b *bench) office(name string, n int, live bool) (project, path string, err error) {
	project = filepath.Join(b.dir, name)
	if err := os.RemoveAll(project); err != nil {
		return "", "", err
	}
	if err := os.MkdirAll(filepath.Join(project, "migrations"), 0o777); err != nil {
		return "", "", err
	}
	path = filepath.Join(project, "harbour.db")
	if err := execAll(path, "pragma journal_mode = wal",
		"create table vessel (id integer primary key, name text not null, flag text, length_ft real, dues numeric)",
		fmt.Sprintf("insert into vessel select value, 'vessel ' || value, 'NO', value %% 300, value %% 1000 / 10.0 from "+
			"(with recursive s(value) as (select 1 union all select value + 1 from s where value < %d) select value from s)", n),
	); err != nil {
		return "", "", err
	}
	config := fmt.Sprintf("database = 'dev'\n[databases.dev]\nurl = 'sqlite:harbour.db'\nlive = %v\n", live)
	if err := os.WriteFile(filepath.Join(project, "lastboard.toml"), []byte(config), 0o666); err != nil {
		return "", "", err
	}
	if _, err := b.lastboard(project, "adopt", "--yes"); err != nil {
		return "", "", err
	}
	text := "-- A code\nalter table vessel add column code text not null using ('V' || upper(substring(name from 1 " +
		"for 3)) || '-' || cast(id as text));\n"
	return project, path, os.WriteFile(filepath.Join(project, "migrations", "0002-code.sql"), []byte(text), 0o666)
}

// addColumn compares adding a not null column with an expression, and taking it
// back, with the plain statements in one transaction.
func (b *bench) addColumn() error {
	var ours, back, plain, plainBack []time.Duration
	for range *rounds {
		_, path, err := b.office("plain", *rows, false)
		if err != nil {
			return err
		}
		began := time.Now()
		if err := execAll(path, "begin immediate", "alter table vessel add column code text",
			"update vessel set code = "+expression,
			"alter table vessel alter column code set not null", "commit"); err != nil {
			return err
		}
		plain = append(plain, time.Since(began))
		began = time.Now()
		if err := execAll(path, "begin immediate", "alter table vessel drop column code", "commit"); err != nil {
			return err
		}
		plainBack = append(plainBack, time.Since(began))
		project, _, err := b.office("ours", *rows, false)
		if err != nil {
			return err
		}
		forward, err := b.lastboard(project, "advance", "--yes")
		if err != nil {
			return err
		}
		retreat, err := b.lastboard(project, "retreat", "--to", "1", "--yes")
		if err != nil {
			return err
		}
		ours, back = append(ours, forward.wall), append(back, retreat.wall)
	}
	report(fmt.Sprintf("not null column with an expression, %d rows", *rows), slices.Min(ours), slices.Min(plain), 1.6)
	report("its retreat, which keeps what the column holds", slices.Min(back), slices.Min(plainBack), 2)
	return nil
}

func report(what string, ours, plain time.Duration, most float64) {
	fmt.Printf("%-62s ours %7d ms   plain %7d ms   ratio %.2f   (at most %.1f)\n", what, ours.Milliseconds(),
		plain.Milliseconds(), ours.Seconds()/plain.Seconds(), most)
}

// memory compares the most that a run holds for two sizes of table.
func (b *bench) memory() error {
	var most [2]int64
	for i, n := range []int{*rows / 10, 5 * *rows} {
		project, _, err := b.office("memory", n, false)
		if err != nil {
			return err
		}
		u, err := b.lastboard(project, "advance", "--yes")
		if err != nil {
			return err
		}
		most[i] = u.memory
	}
	fmt.Printf("%-62s %d rows %d MB   %d rows %d MB   ratio %.2f   (at most 1.1)\n", "memory at its most", 5**rows,
		most[1]>>20, *rows/10, most[0]>>20, float64(most[1])/float64(most[0]))
	return nil
}

// writerWaits measures the longest wait of another process's writes, one every
// 5 ms, while a paced backfill runs.
func (b *bench) writerWaits() error {
	project, path, err := b.office("paced", *rows, true)
	if err != nil {
		return err
	}
	quit, waits := make(chan struct{}), make(chan []time.Duration)
	go write(path, quit, waits)
	time.Sleep(500 * time.Millisecond)
	began := time.Now()
	_, err = b.lastboard(project, "advance", "--yes", "--let-writers-wait")
	took := time.Since(began)
	close(quit)
	list := <-waits
	if err != nil {
		return err
	}
	slices.Sort(list)
	if len(list) == 0 {
		return errors.New("the writer wrote nothing")
	}
	fmt.Printf("%-62s longest %d ms   99th percentile %d ms   of %d writes in %.1f s   (at most 250)\n",
		"wait of a writer meanwhile, paced",
		list[len(list)-1].Milliseconds(), list[len(list)*99/100].Milliseconds(), len(list), took.Seconds())
	return nil
}

// write updates a row every 5 ms, and gives how long each update took.
func write(path string, quit chan struct{}, waits chan []time.Duration) {
	var list []time.Duration
	defer func() { waits <- list }()
	db, err := open(path)
	if err != nil {
		return
	}
	defer db.Close()
	for i := 0; ; i++ {
		select {
		case <-quit:
			return
		case <-time.After(5 * time.Millisecond):
		}
		began := time.Now()
		if _, err := db.Exec("update vessel set dues = ? where id = ?", i, i%*rows+1); err == nil {
			list = append(list, time.Since(began))
		}
	}
}

// start compares the time to show help with that of an empty program.
func (b *bench) start() error {
	source := filepath.Join(b.dir, "empty.go")
	if err := os.WriteFile(source, []byte("package main\n\nfunc main() {}\n"), 0o666); err != nil {
		return err
	}
	empty := filepath.Join(b.dir, "empty")
	if err := command("go", "build", "-trimpath", "-ldflags", "-s -w", "-o", empty, source); err != nil {
		return err
	}
	ours, err := least(30, b.program, "--help")
	if err != nil {
		return err
	}
	plain, err := least(30, empty)
	if err != nil {
		return err
	}
	fmt.Printf("%-62s ours %.1f ms   empty program %.1f ms   ratio %.1f   (at most 5)\n", "lastboard --help", ms(ours),
		ms(plain), ours.Seconds()/plain.Seconds())
	return nil
}

func ms(d time.Duration) float64 { return float64(d.Microseconds()) / 1000 }

// least gives the least time that a command took.
func least(times int, name string, args ...string) (time.Duration, error) {
	best := time.Hour
	for range times {
		began := time.Now()
		if err := exec.Command(name, args...).Run(); err != nil {
			return 0, err
		}
		best = min(best, time.Since(began))
	}
	return best, nil
}

// checkMany compares a check of 1,000 migrations with showing help.
func (b *bench) checkMany() error {
	project := filepath.Join(b.dir, "many")
	if err := os.MkdirAll(filepath.Join(project, "migrations"), 0o777); err != nil {
		return err
	}
	if err := os.WriteFile(filepath.Join(project, "lastboard.toml"), []byte("[databases.dev]\nurl = 'sqlite:x.db'\n"),
		0o666); err != nil {
		return err
	}
	for i := range 1000 {
		text := fmt.Sprintf("-- Table %d\ncreate table vessel_%d (id integer primary key, name varchar(40) not null, "+
			"length_m numeric(7,2) check (length_m > 0));\nalter table vessel_%d add column code varchar(12) not null "+
			"using (upper(name) || '-' || cast(id as varchar(8)));\n", i, i, i)
		if err := os.WriteFile(filepath.Join(project, "migrations", fmt.Sprintf("%04d-table.sql", i+1)), []byte(text),
			0o666); err != nil {
			return err
		}
	}
	help, err := least(10, b.program, "--help")
	if err != nil {
		return err
	}
	check, err := least(5, b.program, "check", "--offline", "--project", project)
	if err != nil {
		return err
	}
	online, err := least(1, b.program, "check", "--project", project)
	if err != nil {
		return err
	}
	fmt.Printf("%-62s ours %.0f ms   --help %.1f ms   ratio %.1f   (at most 20)\n", "check --offline of 1,000 migrations",
		ms(check), ms(help), check.Seconds()/help.Seconds())
	fmt.Printf("%-62s ours %.0f ms   --help %.1f ms   ratio %.1f\n", "check of 1,000 migrations, tried on an empty copy",
		ms(online), ms(help), online.Seconds()/help.Seconds())
	return nil
}
