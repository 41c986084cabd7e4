package mariadb

import (
	"errors"
	"os"
	"path/filepath"
	"testing"
)

// TestTrialGoes is that the database of a trial goes where the server has left copies of files that it no longer
// knows, and that a trial ends well where it cannot.
func TestTrialGoes(t *testing.T) {
	d := opened(t)
	for file, stays := range map[string]bool{
		"berth.TRG-": false, "on_berth.TRN-": false, "vessel.TRG-": false, "other": true,
	} {
		began, err := d.Trial(t.Context())
		if err != nil {
			t.Fatal(err)
		}
		tr := began.(*trial)
		for _, sql := range []string{"create table berth (id integer) engine=innodb",
			"create table vessel (id integer) engine=innodb",
			"create trigger on_berth before insert on berth for each row set @x = 1"} {
			if _, err := tr.s.exec(t.Context(), sql); err != nil {
				t.Fatal(err)
			}
		}
		tr.made["vessel"] = true
		folder := filepath.Join(private.Dir, "data", tr.name)
		path := filepath.Join(folder, file)
		if err := errors.Join(os.WriteFile(path, []byte("x"), 0o666), os.Chmod(path, 0o666)); err != nil {
			t.Fatal(err)
		}
		if err := tr.Close(); err != nil {
			t.Errorf("%s: %v", file, err)
		}
		if _, err := os.Stat(folder); (err == nil) != stays {
			t.Errorf("%s: the folder: %v", file, err)
		}
		if stays { // another trial is not kept from anything by it
			again, err := d.Trial(t.Context())
			if err != nil {
				t.Fatal(err)
			}
			if err := again.Close(); err != nil {
				t.Error(err)
			}
		}
	}
}
