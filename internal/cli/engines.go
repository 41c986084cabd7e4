package cli

// The engines that the program has: each registers itself.
import (
	_ "lastboard/internal/engine/mariadb"
	_ "lastboard/internal/engine/postgres"
	_ "lastboard/internal/engine/sqlite"
)
