package postgres

import (
	"testing"

	"example.com/genarch/engine/enginetest"
	"example.com/genarch/testutil"
)

func TestSuite15(t *testing.T) {
	t.Parallel()
	enginetest.Run(t, Engine{}, testutil.Postgres(t))
}

func TestSuite18(t *testing.T) {
	t.Parallel()
	enginetest.Run(t, Engine{}, testutil.Postgres18(t))
}
