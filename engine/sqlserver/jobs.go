package sqlserver

import (
	"context"
	"database/sql"
	"regexp"
	"strings"

	"example.com/genarch/core/catalog"
)

// agent is how the programs of the server's agent begin to call themselves.
const agent = "SQLAgent"

// agentStep is how a step of a job calls itself: by the job's number, which tells nobody anything.
var agentStep = regexp.MustCompile(`^` + agent + ` - .*\(Job (0x[0-9A-Fa-f]{32}) : Step ([0-9]+)\)$`)

// jobsRead bounds the jobs of which names are read.
const jobsRead = 10_000

// nameJobs has the sessions of the server's agent say which job they run, where the login may look. Source:
// msdb.dbo.sysjobs.
func (s *server) nameJobs(ctx context.Context, list []catalog.Session) {
	var names map[string]string
	for i := range list {
		found := agentStep.FindStringSubmatch(list[i].Application)
		if found == nil {
			continue
		}
		if names == nil {
			names = map[string]string{}
			_ = s.query(ctx, "read the names of jobs", `SELECT TOP (@p1)
				CONVERT(varchar(34), CONVERT(binary(16), job_id), 1), name
				FROM msdb.dbo.sysjobs`, func(r *sql.Rows) error {
				var number, name string
				err := r.Scan(&number, &name)
				names[strings.ToUpper(number)] = name
				return err
			}, jobsRead)
		}
		if name := names[strings.ToUpper(found[1])]; name != "" {
			list[i].Application = agent + " - " + name + " (step " + found[2] + ")"
		}
	}
}
