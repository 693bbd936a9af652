package mariadb

import (
	"testing"

	"example.com/genarch/engine/enginetest"
	"example.com/genarch/testutil"
	"example.com/genarch/testutil/rigs"
)

func TestSuite(t *testing.T) {
	t.Parallel()
	s := testutil.MariaDB(t)
	enginetest.Run(t, Engine{}, s, enginetest.AllNames)
	enginetest.RunAccounts(t, Engine{}, s, enginetest.AllNames)
}

func TestTLS(t *testing.T) {
	t.Parallel()
	ca, cert, key := enginetest.Certificate(t, testutil.Dir(t))
	s := testutil.MariaDB(t, "ssl-cert="+cert, "ssl-key="+key)
	enginetest.RunTLS(t, Engine{}, enginetest.Target(Engine{}, s, "quay"), ca, cert, false)
}

// TestSessions runs beside the suite, on a server of its own that shows who holds
// metadata locks.
func TestSessions(t *testing.T) {
	t.Parallel()
	enginetest.RunSessions(t, rigs.Of(Engine{},
		testutil.MariaDB(t, "plugin-load-add=metadata_lock_info", "max-connections=300")), enginetest.AllNames)
}
