package sqlite_test

import (
	"path/filepath"
	"testing"

	"lastboard/internal/engine/enginetest"
	"lastboard/internal/engine/sqlite"
)

func TestEngine(t *testing.T) {
	enginetest.Run(t, enginetest.Target{Engine: sqlite.Engine{}, New: func(t *testing.T) string {
		return "sqlite:" + filepath.Join(t.TempDir(), "harbour.db")
	}})
}
