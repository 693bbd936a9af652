// Package mysql is MySQL, as one of the engines that Genarch looks after. What is known of it
// stands in package mysqlfamily, beside what it shares with MariaDB.
package mysql

import "example.com/genarch/engine/mysqlfamily"

// Engine is MySQL, versions 8.0 and later. Its zero value is ready for use.
type Engine = mysqlfamily.Engine[mysqlfamily.MySQL]
