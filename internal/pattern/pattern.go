// Package pattern gives regular expressions that are compiled when they are first used: most commands use few of
// those that the program has.
package pattern

import (
	"regexp"
	"sync"
)

// Of gives one. It panics when it is first used where the text is none.
func Of(text string) func() *regexp.Regexp {
	return sync.OnceValue(func() *regexp.Regexp { return regexp.MustCompile(text) })
}
