package mariadb

import (
	"context"

	"lastboard/internal/engine"
)

// Beside implements engine.Database.
func (d *database) Beside(ctx context.Context) ([]engine.Beside, error) {
	r, err := d.query(ctx, `
		select concat(lower(routine_type), ' ', routine_name) from information_schema.routines where routine_schema = database()
		union all select concat('event ', event_name) from information_schema.events where event_schema = database()
		union all select concat('sequence ', table_name) from information_schema.tables
			where table_schema = database() and table_type = 'SEQUENCE' order by 1`)
	if err != nil {
		return nil, err
	}
	var list []engine.Beside
	for _, v := range r.Values {
		list = append(list, engine.Beside{What: text(v[0])})
	}
	return list, nil
}
