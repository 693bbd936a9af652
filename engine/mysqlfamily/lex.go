package mysqlfamily

import "example.com/genarch/core/lexical"

// dialect is MariaDB's lexical rules for the sql_mode and character set that every
// connection of ours sets, and most clients have.
var dialect = lexical.Dialect{Backslash: true, DoubleQuoted: true, Code: true, Hash: true, SpacedDashes: true,
	LineEnds: "\n"}
