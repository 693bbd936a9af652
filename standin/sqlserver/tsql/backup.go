package tsql

// Backup copies a database into a file of the server.
type Backup struct{ Database, To string }

// Restore makes a database of such a file.
type Restore struct {
	Database, From string
	// Move says where files come to lie, by their logical names.
	Move map[string]string
}

// backup reads BACKUP DATABASE … TO DISK and RESTORE DATABASE … FROM DISK.
func (p *parser) backup(verb string) any {
	p.next()
	p.need("DATABASE")
	name := p.name()
	p.need(map[string]string{"BACKUP": "TO", "RESTORE": "FROM"}[verb], "DISK", "=")
	file := p.str()
	move := map[string]string{}
	if p.kw("WITH") {
		p.list(func() {
			if p.kw("MOVE") {
				logical := p.str()
				p.need("TO")
				move[logical] = p.str()
				return
			}
			if p.any("COPY_ONLY", "FORMAT", "INIT", "CHECKSUM", "RECOVERY", "STATS") == "STATS" && p.sym("=") {
				p.int()
			}
		})
	}
	if verb == "BACKUP" {
		return Backup{name, file}
	}
	return Restore{name, file, move}
}
