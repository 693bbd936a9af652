package mariadb

import (
	"testing"

	"example.com/genarch/engine/enginetest"
	"example.com/genarch/testutil"
)

func TestSuite(t *testing.T) {
	t.Parallel()
	enginetest.Run(t, Engine{}, testutil.MariaDB(t))
}
