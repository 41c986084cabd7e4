package mariadb

import (
	"strings"

	"lastboard/internal/engine"
)

func init() { engine.Register(about) }

var about = &engine.About{
	Name: "mariadb", Title: "MariaDB", Schemes: []string{"mariadb", "mysql"},
	Example: "mariadb://office@db.example/harbour", Words: reserved,
	Traits: engine.Traits{Places: true, Mirrors: true, MirrorsHide: true, MirrorsTurn: true, Swaps: true, Links: true,
		Supplies: true,
		StandsIn: true},
	RunSeconds: 0.03, UnitSeconds: 0.02,
	New: func(o engine.Options) engine.Engine {
		return Engine{Unproven: o.Unproven, RunsAs: o.RunsAs, Here: o.LedgerHere}
	},
}

// About implements engine.Engine.
func (Engine) About() *engine.About { return about }

// reserved words that a name could well be: mariadb.com/kb/en/reserved-words.
var reserved = strings.Fields(`accessible add all alter analyze and as asc asensitive before between bigint binary blob both by
		call cascade case change char character check collate column condition constraint continue convert create cross
		current_date current_role current_time current_timestamp current_user cursor database databases dec decimal declare default
		delayed delete desc describe deterministic distinct div double drop dual each else elseif enclosed escaped except exists
		exit explain false fetch float for force foreign from fulltext general grant group having if ignore in index infile inner
		inout insensitive insert int integer intersect interval into is iterate join key keys kill leading leave left like limit
		linear lines load localtime localtimestamp lock long loop low_priority match mod modifies natural not null numeric offset on
		optimize option optionally or order out outer outfile over partition primary procedure purge range read reads real
		recursive references regexp release rename repeat replace require resignal restrict return returning revoke right rlike
		rows schema schemas select sensitive separator set show signal slow smallint spatial specific sql starting stored
		straight_join table terminated then tinyint to trailing trigger true undo union unique unlock unsigned update usage use
		using utc_date values varbinary varchar varying virtual when where while window with write xor`)
