package sqlserver

import (
	"encoding/json"
	"fmt"
	"hash/fnv"
	"slices"
	"strings"

	"example.com/genarch/core/catalog"
	"example.com/genarch/core/change"
	"example.com/genarch/core/naming"
	"example.com/genarch/engine/planning"
)

// equal compares two values of an option as the server does: words without case; of files, what was
// asked for of each.
func equal(option string, want, have any) bool {
	switch option {
	case "files":
		return len(differentFiles(want, have)) == 0
	case "owner", "collation":
		return strings.EqualFold(catalog.WriteValue(want), catalog.WriteValue(have))
	}
	return catalog.WriteValue(want) == catalog.WriteValue(have)
}

// differentFiles are the rows of want in which have has something else, or no such file.
func differentFiles(want, have any) (out []catalog.Values) {
	asked, _ := want.([]catalog.Values)
	there, _ := have.([]catalog.Values)
	for _, row := range asked {
		i := slices.IndexFunc(there, func(f catalog.Values) bool {
			return strings.EqualFold(f.Text("name"), row.Text("name"))
		})
		if i < 0 || !fileAsAsked(row, there[i]) {
			out = append(out, row)
		}
	}
	return out
}

// extent is what the server allocates at once, in bytes.
const extent = 64 << 10

func fileAsAsked(want, have catalog.Values) bool {
	for _, name := range want.Names() {
		switch name {
		case "name", "kind":
		case "size", "max_size":
			// The server keeps pages of 8 KB, and rounds up to what it allocates at once.
			x, ok := want.Int(name)
			y, also := have.Int(name)
			if ok != also || ok && (y < x || y-x >= extent) || !ok && want.Text(name) != have.Text(name) {
				return false
			}
		case "growth":
			wb, ws, _ := growthOf(want.Text(name))
			hb, hs, _ := growthOf(have.Text(name))
			if wb != hb || ws != hs {
				return false
			}
		default:
			if !strings.EqualFold(want.Text(name), have.Text(name)) {
				return false
			}
		}
	}
	return true
}

// setOptions are the options that ALTER DATABASE SET sets, in the order in which a new database gets
// them: what needs the database alone comes first, while nobody knows of it.
var setOptions = []string{"read_committed_snapshot", "recovery", "compatibility", "snapshot_isolation",
	"auto_create_statistics", "auto_update_statistics", "auto_update_statistics_async", "auto_close", "auto_shrink",
	"page_verify", "trustworthy"}

// clause writes an option with a value as SET has it.
func clause(option string, value any) string {
	word := strings.ToUpper(catalog.WriteValue(value))
	on := onOff(value == true)
	switch option {
	case "recovery":
		return "RECOVERY " + quoteWord(word)
	case "compatibility":
		return "COMPATIBILITY_LEVEL = " + quoteWord(word)
	case "containment":
		return "CONTAINMENT = " + quoteWord(word)
	case "page_verify":
		return "PAGE_VERIFY " + quoteWord(word)
	case "access":
		return quoteWord(word)
	case "snapshot_isolation":
		return "ALLOW_SNAPSHOT_ISOLATION " + on
	case "read_committed_snapshot":
		return "READ_COMMITTED_SNAPSHOT " + on
	case "auto_create_statistics":
		return "AUTO_CREATE_STATISTICS " + on
	case "auto_update_statistics":
		return "AUTO_UPDATE_STATISTICS " + on
	case "auto_update_statistics_async":
		return "AUTO_UPDATE_STATISTICS_ASYNC " + on
	case "auto_close":
		return "AUTO_CLOSE " + on
	case "auto_shrink":
		return "AUTO_SHRINK " + on
	case "trustworthy":
		return "TRUSTWORTHY " + on
	case "read_only":
		if value == true {
			return "READ_ONLY"
		}
		return "READ_WRITE"
	case "offline":
		if value == true {
			return "OFFLINE"
		}
		return "ONLINE"
	}
	panic("no clause sets " + option)
}

// planCreate collects what speaks against the database as asked, settles each property, and lays out
// the steps: it is made, its options are set, and last it is given to its owner.
//
// Long: its cases stand in the order in which their findings are read.
func planCreate(p *planning.Draft) {
	spec, snap := *p.In.Database, p.Snap
	p.Summary = "create database " + shown(spec.Name) + " on " + snap.Server.Name
	if planning.Name(&p.Brief, spec, snap, limits) {
		p.Existing()
		return
	}
	planning.Rights(&p.Brief, snap)
	more := detailsOf(snap.Details)
	planEdges(p, spec.Name)
	if owner := p.Settled.Text("owner"); owner != "" && !snap.Instance.Login.Superuser &&
		owner != snap.Instance.Login.Name {
		p.About("owner", change.Caution, change.OwnerDenied,
			"GRANT IMPERSONATE ON LOGIN::"+quoteIdent(owner)+" TO "+quoteIdent(snap.Instance.Login.Name),
			"To give it to %s, Genarch's login %s needs the right to act as that login; else it stays with Genarch's.",
			shown(owner), snap.Instance.Login.Name)
	}
	if p.Settled.Text("containment") == "partial" && !more.Contained {
		p.About("containment", change.Stop, change.OptionUnusable,
			"EXEC sp_configure 'contained database authentication', 1; RECONFIGURE",
			"The server does not let databases be contained.")
	}
	from := snap.Source
	has, source := base(p)
	if from != nil {
		p.Default("collation", from.Collation, source)
		p.Default("containment", has["containment"], source)
		if snap.Instance.Login.Superuser {
			p.Default("owner", from.Owner, source)
		}
	}
	p.Default("owner", snap.Instance.Login.Name, "Genarch's login")
	p.Default("collation", snap.Instance.Collation, "the server")
	p.Default("containment", "none", "SQL Server")
	// What the database model has, a new one gets; its compatibility level is the server's own.
	for _, option := range setOptions {
		p.Default(option, has[option], source)
	}
	planCautions(p, p.Asked)
	if more.OwnerUser {
		userOwns(p, p.Settled.Text("owner"), from.Name)
	}
	if more.InModel > 0 && from == nil {
		p.Find(change.Note, change.TemplateOpen, "",
			"%s of users lie in the database model, and so in the new one.", naming.Count(more.InModel, "object"))
	}
	var files []catalog.Values
	if from == nil {
		files = planFiles(p)
	} else {
		files = copiedFiles(p)
	}
	want := p.Settings(false)
	delete(want, "files")
	if len(files) > 0 {
		want["files"] = writeRows(files)
	}
	if owner := p.Settled.Text("owner"); owner != "" {
		want["owner"] = owner
	}
	containment, collation := "", ""
	if p.Asked.Has("containment") {
		containment = p.Settled.Text("containment")
	}
	if p.Asked.Has("collation") {
		collation = p.Settled.Text("collation")
	}
	if from != nil {
		p.Step(planCopy(p, files)...)
	} else {
		p.Step(change.Step{Kind: stepCreate, Title: "create database " + shown(spec.Name),
			Statement: createDatabase(spec.Name, containment, collation, files), Undo: dropDatabase(spec.Name),
			Seconds: longSeconds, Args: map[string]string{"name": spec.Name}})
	}
	for _, option := range setOptions {
		if !p.Asked.Has(option) || equal(option, p.Settled[option], has[option]) {
			continue
		}
		termination := ""
		if option == "read_committed_snapshot" {
			termination = noWait
		}
		p.Step(change.Step{Kind: stepAlter, Title: optionWords(p, option),
			Statement: setOption(spec.Name, clause(option, p.Settled[option]), termination),
			Undo:      setOption(spec.Name, clause(option, has[option]), termination),
			Args:      map[string]string{"name": spec.Name, option: catalog.WriteValue(p.Settled[option])}})
	}
	if owner := p.Settled.Text("owner"); owner != snap.Instance.Login.Name {
		p.Step(ownerStep(spec.Name, owner, snap.Instance.Login.Name))
	}
	if spec.Team != nil {
		planTeam(p)
		if from != nil {
			planCopiedTeam(p, *spec.Team)
		}
	}
	p.Step(change.Step{Kind: change.Verify, Title: "read back and compare", ReadOnly: true, Args: want})
	if spec.Team != nil {
		p.Step(proveTeam(spec.Name, *spec.Team))
	}
}

// optionWords say what setting an option does.
func optionWords(p *planning.Draft, option string) string {
	f, _ := p.D.Option(change.PartDatabase, option)
	return planning.Alteration{Field: f, Will: p.Settled[option]}.Words()
}

// ownerStep gives a database to a login.
func ownerStep(name, to, from string) change.Step {
	step := change.Step{Kind: stepOwner, Title: "give it to " + shown(to), Statement: setOwner(name, to),
		Args: map[string]string{"name": name, "owner": to}}
	if from != "" {
		step.Undo = setOwner(name, from)
	}
	return step
}

// planEdges stops at names that the server takes, and that nobody could tell afterwards.
func planEdges(p *planning.Draft, name string) {
	if strings.HasPrefix(name, "#") {
		p.Find(change.Stop, "name.start", "Choose another name.",
			"A name that begins with # means something that is dropped by itself.")
	}
}

// planCautions says what options do that nobody would want without knowing.
func planCautions(p *planning.Draft, asked catalog.Values) {
	for option, text := range map[string]string{
		"auto_close": "Every first connection then waits until it is opened, and its plans are thrown away each time.",
		"auto_shrink": "Shrinking takes disk and processor at any time, scatters its indexes, and the files grow " +
			"again.",
		"trustworthy": "Code in it that runs as its owner then has the owner's rights on the whole server.",
	} {
		if asked[option] == true {
			p.About(option, change.Caution, change.OptionRisky, "Leave it off, if nothing needs it.", "%s", text)
		}
	}
	if pages := asked.Text("page_verify"); pages != "" && pages != "checksum" {
		p.About("page_verify", change.Caution, change.OptionRisky, "Take checksum.",
			"Pages that the disk has damaged are then noticed late, or never.").Suggestion = "checksum"
	}
	if collation := p.Settled.Text("collation"); asked.Has("collation") &&
		!strings.EqualFold(collation, p.Snap.Instance.Collation) {
		p.About("collation", change.Note, change.CollationMismatch, "",
			"Temporary tables have the server's collation %s: joins of text with them need COLLATE DATABASE_DEFAULT.",
			p.Snap.Instance.Collation)
	}
}

// planFiles settles the files of a new database; none: the server's defaults are right. A name with
// characters that no file can have gets files of a name that can.
func planFiles(p *planning.Draft) []catalog.Values {
	files := p.Asked.Rows("files")
	more, name := detailsOf(p.Snap.Details), p.In.Database.Name
	if len(files) == 0 {
		stem := fileStem(name)
		if stem == name {
			return nil
		}
		files = []catalog.Values{{"name": "data", "kind": "data", "path": more.DataPath + stem + ".mdf"},
			{"name": "log", "kind": fileLog, "path": more.LogPath + stem + "_log.ldf"}}
		p.About("files", change.Note, change.OptionUnusable, "",
			"The name has characters that no file can have, so its files are called %s.", shown(stem))
		return files
	}
	var data, logs int
	var out []catalog.Values
	for _, f := range files {
		f = f.With("kind", f["kind"])
		if f.Text("kind") == "" {
			f["kind"] = "data"
		}
		kind, group := f.Text("kind"), f.Text("filegroup")
		if growth := f.Text("growth"); growth != "" {
			if _, share, ok := growthOf(growth); !ok {
				p.About("files", change.Stop, change.OptionInvalid, "Write it as 64 MB, or as 10%.",
					"The file %s cannot grow by %s.", shown(f.Text("name")), shown(growth))
			} else if share > 0 {
				p.About("files", change.Caution, change.OptionRisky, "Say how much, as 64 MB.",
					"The file %s grows by a share of itself: the larger it is, the longer each growth holds "+
						"everybody up.",
					shown(f.Text("name")))
			}
		}
		switch {
		case kind == fileLog && group != "":
			p.About("files", change.Stop, change.OptionInvalid, "Leave the filegroup out.",
				"The log lies in no filegroup: %s.", shown(f.Text("name")))
		case kind == fileLog:
			logs++
		case group == "" || strings.EqualFold(group, primary):
			data++
		}
		if f.Text("path") == "" {
			f["path"] = defaultPath(more, f, name, data, logs)
		}
		out = append(out, f)
	}
	if data == 0 {
		p.About("files", change.Stop, change.OptionInvalid, "Add one, or leave its filegroup out.",
			"A database needs a data file in the filegroup PRIMARY.")
	}
	planRoom(p, out)
	p.Settle("files", out)
	return out
}

// defaultPath is where a file lies that was given no path: in the server's folder for its kind.
func defaultPath(more *details, f catalog.Values, name string, data, logs int) string {
	stem := fileStem(name)
	switch {
	case f.Text("kind") == fileLog && logs == 1:
		return more.LogPath + stem + "_log.ldf"
	case f.Text("kind") == fileLog:
		return more.LogPath + stem + "_" + fileStem(f.Text("name")) + ".ldf"
	case data == 1 && f.Text("filegroup") == "":
		return more.DataPath + stem + ".mdf"
	}
	return more.DataPath + stem + "_" + fileStem(f.Text("name")) + ".ndf"
}

// fileStem is a name as a file can have it on every system; one that had to be altered has a number
// that tells it from others that look alike then.
func fileStem(name string) string {
	clean := strings.Map(func(c rune) rune {
		if c < ' ' || strings.ContainsRune(`\/:*?"<>|`, c) || c == 0x7F {
			return '_'
		}
		return c
	}, strings.TrimRight(name, ". "))
	if clean == name && clean != "" {
		return name
	}
	h := fnv.New32a()
	h.Write([]byte(name))
	return fmt.Sprintf("%s_%08x", clean, h.Sum32())
}

// writeRows keeps rows of files with a step, and readRows reads them.
func writeRows(rows []catalog.Values) string {
	text, err := json.Marshal(rows)
	if err != nil {
		panic("rows are plain data: " + err.Error())
	}
	return string(text)
}

func readRows(text string) (rows []catalog.Values, err error) {
	err = json.Unmarshal([]byte(text), &rows)
	return rows, err
}

// facts writes a database's properties under the names that verifying uses.
func facts(d catalog.Database) map[string]string {
	out := map[string]string{"name": d.Name, "key": d.Key, "closed": catalog.WriteValue(d.Closed)}
	if d.Held != nil {
		out["held_as"] = d.Held.Name
	}
	for name, value := range d.Values() {
		out[name] = catalog.WriteValue(value)
	}
	return out
}
