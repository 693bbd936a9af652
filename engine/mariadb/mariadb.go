// Package mariadb is MariaDB, as one of the engines that Genarch looks after. What is known of
// it stands in package mysqlfamily, beside what it shares with MySQL.
package mariadb

import "example.com/genarch/engine/mysqlfamily"

// Engine is MariaDB, versions 10.6 and later. Its zero value is ready for use.
type Engine = mysqlfamily.Engine[mysqlfamily.MariaDB]
