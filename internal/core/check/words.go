package check

import "strings"

// Reserved words of each engine that a name could well be, from their manuals:
// sqlite.org/lang_keywords.html (those that cannot stand unquoted), the key word
// appendix of PostgreSQL's manual (reserved), mariadb.com/kb/en/reserved-words.
var (
	sqliteWords = strings.Fields(`add all alter and as autoincrement between case check collate commit constraint create default
		deferrable delete distinct drop else escape except exists foreign from group having in index insert intersect into is isnull
		join limit not notnull null on or order primary references select set table then to transaction union unique update using
		values when where`)
	postgresWords = strings.Fields(`all analyse analyze and any array as asc asymmetric both case cast check collate column
		constraint create current_catalog current_date current_role current_time current_timestamp current_user default deferrable
		desc distinct do else end except false fetch for foreign from grant group having in initially intersect into lateral leading
		limit localtime localtimestamp not null offset on only or order placing primary references returning select session_user
		some symmetric table then to trailing true union unique user using variadic when where window with`)
	mariadbWords = strings.Fields(`accessible add all alter analyze and as asc asensitive before between bigint binary blob both by
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
)
