package sqlserver

import (
	"testing"

	"example.com/genarch/engine/enginetest"
	"example.com/genarch/testutil"
	"example.com/genarch/testutil/rigs"
)

func TestSuite(t *testing.T) {
	t.Parallel()
	enginetest.Run(t, Engine{}, testutil.SQLServer(t, "16.0.4125.3"), enginetest.AllNames)
}

func TestSessions(t *testing.T) {
	t.Parallel()
	enginetest.RunSessions(t, rigs.Of(Engine{}, testutil.SQLServer(t, "13.0.6300.2")), enginetest.AllNames)
}

func TestAccounts(t *testing.T) {
	t.Parallel()
	enginetest.RunAccounts(t, Engine{}, testutil.SQLServer(t, "16.0.4125.3"), enginetest.AllNames)
}
