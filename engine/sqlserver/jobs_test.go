package sqlserver

import (
	"database/sql"
	"net/url"
	"testing"

	"example.com/genarch/core/catalog"
	"example.com/genarch/engine/enginetest"
	"example.com/genarch/testutil"
)

// TestJobNames: a session of the server's agent says which job it runs; one whose job is gone says what it
// says itself.
func TestJobNames(t *testing.T) {
	t.Parallel()
	running := testutil.SQLServer(t, "16.0.4125.3")
	db, err := sql.Open("sqlserver", running.DSN(""))
	if err != nil {
		t.Fatal(err)
	}
	defer db.Close()
	number := ""
	if _, err := db.ExecContext(t.Context(), "EXEC msdb.dbo.sp_add_job @job_name = N'nightly [odd] job'"); err != nil {
		t.Fatal(err)
	}
	if err := db.QueryRowContext(t.Context(), "SELECT CONVERT(varchar(34), CONVERT(binary(16), job_id), 1) FROM "+
		"msdb.dbo.sysjobs").Scan(&number); err != nil {
		t.Fatal(err)
	}
	gone := "SQLAgent - TSQL JobStep (Job 0x00112233445566778899AABBCCDDEEFF : Step 2)"
	want := map[string]string{gone: gone,
		"SQLAgent - TSQL JobStep (Job " + number + " : Step 12)": "SQLAgent - nightly [odd] job (step 12)"}
	for program := range want {
		address, _ := url.Parse(running.DSN(""))
		more := address.Query()
		more.Set("app name", program)
		address.RawQuery = more.Encode()
		one, err := sql.Open("sqlserver", address.String())
		if err != nil {
			t.Fatal(err)
		}
		defer one.Close()
		if err := one.PingContext(t.Context()); err != nil {
			t.Fatal(err)
		}
	}
	s := enginetest.Open(t, Engine{}, enginetest.Target(Engine{}, running, "suite"))
	list, err := s.Sessions(t.Context(), catalog.SessionQuery{})
	if err != nil {
		t.Fatal(err)
	}
	have := map[string]catalog.SessionKind{}
	for _, x := range list.Sessions {
		have[x.Application] = x.Kind
	}
	for _, text := range want {
		if have[text] != catalog.WorkerSession {
			t.Errorf("%s is not among %v", text, have)
		}
	}
}
