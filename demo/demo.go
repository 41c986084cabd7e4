package demo

import "context"

type Options struct {
	Folder  string
	Rows    int
	NoColor bool
}

func Run(ctx context.Context, o Options) error { return nil }
