package sqlite

import (
	"context"
	"time"

	"lastboard/internal/engine"
	"lastboard/internal/schema"
)

// Now implements engine.Onlooker.
func (d *database) Now(context.Context) (time.Time, error) { return time.Now(), nil }

// Seen implements engine.Onlooker: nothing is counted here.
func (d *database) Seen(context.Context, *schema.Table, string) (engine.Seen, error) {
	return engine.Seen{}, nil
}

// Asked implements engine.Onlooker.
func (d *database) Asked(context.Context) (list []engine.Asked, unseen string, err error) {
	return nil, "a file does not tell which programs use it", nil
}

// Code implements engine.Onlooker.
func (d *database) Code(ctx context.Context) (list []engine.Code, err error) {
	r, err := d.Query(ctx, "select type || ' ' || name, sql from sqlite_master where type in ('view', 'trigger') and "+
		"name not like 'lastboard\\_%' escape '\\' order by 1")
	if err != nil {
		return nil, err
	}
	for _, v := range r.Values {
		list = append(list, engine.Code{What: text(v[0]), SQL: text(v[1])})
	}
	return list, nil
}
