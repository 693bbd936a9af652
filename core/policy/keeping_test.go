package policy

import (
	"testing"

	"example.com/genarch/core/catalog"
)

func TestKeepDays(t *testing.T) {
	for _, tt := range []struct {
		env          catalog.Environment
		server, asks int
		want         int
	}{
		{catalog.Production, 0, 0, 30}, {catalog.Staging, 0, 0, 7}, {catalog.Development, 0, 0, 1}, {"other", 0, 0, 30},
		{catalog.Production, 14, 0, 14}, {catalog.Production, 14, 90, 90},
		{catalog.Staging, 0, 99999, catalog.MaxKeepDays},
	} {
		srv := catalog.Server{Environment: tt.env, Keeping: catalog.Keeping{Days: tt.server}}
		if got := KeepDays(srv, tt.asks); got != tt.want {
			t.Errorf("KeepDays(%+v) = %d", tt, got)
		}
	}
}
