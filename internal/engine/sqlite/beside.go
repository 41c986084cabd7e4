package sqlite

import (
	"context"

	"lastboard/internal/engine"
)

// Beside implements engine.Database: a file holds tables, views and what belongs to them alone.
func (d *database) Beside(context.Context) ([]engine.Beside, error) { return nil, nil }
