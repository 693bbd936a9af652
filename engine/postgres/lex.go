package postgres

import "example.com/genarch/core/lexical"

// dialect is PostgreSQL's lexical rules (manual, "Lexical Structure"), with
// standard_conforming_strings on, which every connection of ours sets.
var dialect = lexical.Dialect{Escaped: true, Dollar: true, Nested: true, LineEnds: "\n\r"}
