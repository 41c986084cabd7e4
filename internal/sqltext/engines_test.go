package sqltext_test

import "lastboard/internal/sqltext"

func init() {
	for _, name := range []string{"mariadb", "postgres", "sqlite"} {
		sqltext.RegisterEngine(name)
	}
}
