package server

import (
	"fmt"

	"example.com/genarch/standin/sqlserver/tsql"
)

func (x *exec) may(perm string) bool { return x.inst.serverHas(x.s.cur, perm) }

func (x *exec) kill(k tsql.Kill) {
	s := x.s
	if s.trancount > 0 && !k.Status {
		fail(6115, 16, 1, "KILL command cannot be used inside user transactions.")
	}
	if !x.may("ALTER ANY CONNECTION") {
		fail(6102, 14, 1, "User does not have permission to use the KILL statement.")
	}
	if k.ID < 1 || k.ID > 32767 {
		fail(6101, 16, 1, "Session ID %d is not valid.", k.ID)
	}
	t := x.inst.sessions[int(k.ID)]
	switch {
	case t == s:
		fail(6104, 16, 1, "Cannot use KILL to kill your own process.")
	case t == nil:
		fail(6106, 16, 2, "Process ID %d is not an active process ID.", k.ID)
	case t.system:
		fail(6107, 14, 1, "Only user processes can be killed.")
	case k.Status && !t.rolling:
		fail(
			6120,
			16,
			1,
			"Status report cannot be obtained. Rollback operation for Process ID %d is not in progress.",
			k.ID,
		)
	case k.Status:
		x.say(
			&Problem{
				Number: 6109,
				Class:  10,
				State:  1,
				Text: fmt.Sprintf(
					"SPID %d: transaction rollback in progress. Estimated rollback completion: %d%%. Estimated time "+
						"remaining: %d seconds.",
					t.ID,
					int(t.req.Percent),
					1,
				),
			},
			0,
		)
		return
	}
	t.end()
}

// end kills a session: at once when it is idle, else at its next step.
func (t *Session) end() {
	if t.killed {
		return
	}
	t.killed = true
	if t.conn == nil { // a pretended backup
		t.drop()
		return
	}
	if t.req != nil && t.req.cancel != nil {
		t.req.cancel(errCancelled)
		return
	}
	go func() {
		i := t.inst
		i.mu.Lock()
		defer i.mu.Unlock()
		t.rollback()
		t.drop()
		_ = t.conn.Close()
	}()
}

// drop takes a session off the list, with what it holds.
func (t *Session) drop() {
	i := t.inst
	if i.sessions[t.ID] == t {
		delete(i.sessions, t.ID)
		close(t.gone)
	}
	for _, d := range i.dbs {
		if d.exclusive == t {
			d.exclusive = nil
		}
	}
	if i.modelBusy == t {
		i.modelBusy = nil
	}
	i.broadcast()
}
