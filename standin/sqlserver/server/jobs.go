package server

import "strings"

// job adds a job of the agent, or says what its step runs where: so much of the agent there is, that
// others can see its jobs. Source: msdb.dbo.sp_add_job, msdb.dbo.sp_add_jobstep.
func (x *exec) job(proc string, arg func(k int, names ...string) any) {
	if !x.inst.sysadmin(x.s.cur.login) {
		fail(229, 14, 5, "The EXECUTE permission was denied on the object '%s', database 'msdb', schema 'dbo'.", proc)
	}
	name := text(arg(0, "@job_name"))
	var found *Job
	for _, j := range x.inst.jobs {
		if strings.EqualFold(j.Name, name) {
			found = j
		}
	}
	switch {
	case proc == "sp_add_job" && found != nil:
		fail(14261, 16, 1, "The specified @name ('%s') already exists.", name)
	case proc == "sp_add_job":
		owner := x.inst.principal(text(arg(-1, "@owner_login_name")))
		if owner == nil {
			owner = x.inst.principals[1]
		}
		x.inst.jobs = append(x.inst.jobs, &Job{ID: uuid(), Name: name, Enabled: true, Owner: owner.SID})
	case found == nil:
		fail(14262, 16, 1, "The specified @job_name ('%s') does not exist.", name)
	default:
		found.Database, found.Command = text(arg(-1, "@database_name")), text(arg(-1, "@command"))
	}
	x.finish(0, 0, 0)
}

// shipLog has the log of a database sent to another server, as far as that can be seen. Source:
// sp_add_log_shipping_primary_database.
func (x *exec) shipLog(database string) {
	d := x.inst.db(database)
	if d == nil || !x.inst.sysadmin(x.s.cur.login) {
		fail(15165, 16, 1, "Could not find object '%s' or you do not have permission.", database)
	}
	d.Shipped = true
	x.finish(0, 0, 0)
}
