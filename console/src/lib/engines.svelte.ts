import { api, type Engine, type EngineField, type Intent } from './api';
import { size } from './format';

/** What the engines say of themselves: read once, for they do not change while the service runs. */
class Engines {
	all = $state.raw<Engine[]>([]);
	#reading: Promise<void> | null = null;

	/** Reads them, unless that was done. */
	load(): Promise<void> {
		this.#reading ??= api.engines().then(
			(e) => void (this.all = e.engines),
			(e) => {
				this.#reading = null;
				throw e;
			}
		);
		return this.#reading;
	}

	get(id: string | undefined): Engine | undefined {
		return this.all.find((e) => e.id === id);
	}

	/** Why an engine cannot do something; empty: it can, or that is not known yet. */
	why(id: string | undefined, kind: Intent['kind']): string {
		return this.get(id)?.intents[kind]?.why ?? '';
	}

	/** Whether accounts and roles of one name are two things, so that an address has to say which is meant. */
	separateRoles(id: string | undefined): boolean {
		return !!this.get(id)?.principals.some((k) => k.role && !k.space);
	}

	/** An engine as its people write it. */
	title(id: string | undefined): string {
		return this.get(id)?.title ?? id ?? '';
	}

	/** Whether objects lie in schemas within a database. */
	hasSchemas(id: string | undefined): boolean {
		return !!this.get(id)?.nouns.schema?.one;
	}

	/** Whether an account is a name and the host that it comes from. */
	hasHosts(id: string | undefined): boolean {
		return !!this.get(id)?.principals.some((k) => k.in === 'host');
	}

	/** Whether accounts lie in databases. */
	inDatabases(id: string | undefined): boolean {
		return this.get(id)?.principals.find((k) => !k.role)?.in === 'database';
	}

	/** The kind of an account or role, by whether it lies in a database. */
	principal(id: string | undefined, role: boolean, inside: boolean) {
		return this.get(id)?.principals.find((k) => !!k.role === role && (k.in === 'database') === inside);
	}

	/** Whom the gate of a database keeps out, in a sentence. */
	gate(id: string | undefined): string {
		const gate = this.get(id)?.gate;
		const own = gate?.keeps === 'nobody' || gate?.at_last;
		const says = own ? gate?.says : 'New logins are kept out from the beginning.';
		return [says, gate?.leaks].filter(Boolean).join(' ');
	}

	/** Whether there are roles. */
	hasRoles(id: string | undefined): boolean {
		return !!this.get(id)?.principals.some((k) => k.role);
	}
}

export const engines = new Engines();

/** The part of an intent that says what is asked for: privileges are granted, members get roles. */
function partOf(kind: Intent['kind']): string {
	const about = kind.split('.')[0] ?? '';
	return { privilege: 'grant', role: 'member' }[about] ?? about;
}

/** The options that a kind of intent has, in the part that it is about or in another one. */
export function optionsOf(engine: Engine | undefined, kind: Intent['kind'], part = partOf(kind)): EngineField[] {
	return engine?.fields[part]?.filter((f) => f.in?.includes(kind)) ?? [];
}

/** What can be read of a database and shown. */
export function propertiesOf(engine: Engine | undefined): EngineField[] {
	return engine?.fields.database?.filter((f) => f.show) ?? [];
}

export type Options = Record<string, unknown>;
export type Row = Record<string, string>;

/** The property of a thing by the name of a field: some are fields of their own. */
export function property(thing: { properties: Record<string, unknown> }, name: string): unknown {
	return (thing as unknown as Record<string, unknown>)[name] ?? thing.properties[name];
}

/** Writes a value as people read it. */
export function valueText(value: unknown): string {
	if (value === undefined || value === null) return '';
	if (typeof value === 'boolean') return value ? 'yes' : 'no';
	if (Array.isArray(value)) return value.map(valueText).join(', ');
	if (typeof value === 'object') return Object.values(value).map(valueText).join(' = ');
	return String(value);
}

/** Writes a property as the type of its field says: sizes in their units, a table a line for each row. */
export function fieldText(f: EngineField, value: unknown): string {
	if (f.type === 'size' && typeof value === 'number') return size(value);
	if (f.type !== 'table' || !Array.isArray(value)) return valueText(value);
	const columns = f.columns ?? [];
	return value
		.map((row: Record<string, unknown>) =>
			columns
				.map((c, i) => [c, fieldText(c, row[c.name]), i] as const)
				.filter(([, text]) => text)
				.map(([c, text, i]) => (i > 0 && columns.length > 2 ? `${c.title.toLowerCase()} ${text}` : text))
				.join(columns.length > 2 ? ', ' : ' = ')
		)
		.join('\n');
}

/** What is asked for, without the fields that were left empty. */
export function given(options: Options): Options | undefined {
	const out = Object.entries(options).filter(
		([, v]) => v !== undefined && v !== '' && !(Array.isArray(v) && v.length === 0)
	);
	return out.length ? Object.fromEntries(out) : undefined;
}

/** What of a form differs from what a thing has; of a table the rows that do, and those that are gone by their key. */
export function altered(fields: EngineField[], options: Options, has: (name: string) => unknown): Options | undefined {
	const out: Options = {};
	for (const f of fields) {
		const [now, will] = [has(f.name), options[f.name]];
		if (f.type === 'table') {
			const rows = changedRows(f, (now as Row[] | undefined) ?? [], (will as Row[] | undefined) ?? []);
			if (rows.length) out[f.name] = rows;
		} else if (will !== undefined && valueText(will) !== valueText(now)) out[f.name] = will;
	}
	return Object.keys(out).length ? out : undefined;
}

function changedRows(f: EngineField, now: Row[], will: Row[]): Row[] {
	const key = f.key ?? '';
	const same = (a: Row | undefined, b: Row) =>
		!!a && JSON.stringify(Object.entries(a).sort()) === JSON.stringify(Object.entries(b).sort());
	const gone = now.filter((r) => !will.some((w) => w[key] === r[key])).map((r): Row => ({ [key]: r[key] ?? '' }));
	return [
		...will.filter(
			(w) =>
				w[key] &&
				!same(
					now.find((r) => r[key] === w[key]),
					w
				)
		),
		...gone
	];
}
