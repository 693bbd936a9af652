import { api, problemOf, type Database, type Engine, type Problem } from './api';
import { propertiesOf, property, fieldText } from './engines.svelte';
import { count, exact, lastUse, size } from './format';
import { live } from './live.svelte';

/** A property as people read it. */
export type Fact = { title: string; value: string; remark?: string };

/** One database as it is now; read again when it changes. */
export class OneDatabase {
	database = $state.raw<Database | null>(null);
	problem = $state<Problem | null>(null);
	read = $state('');

	constructor(
		readonly server: string,
		readonly name: string,
		/** Called after each reading. */
		readonly after: () => void = () => {}
	) {}

	async load(): Promise<void> {
		try {
			this.database = await api.database(this.server, this.name);
			[this.problem, this.read] = [null, new Date().toISOString()];
			this.after();
		} catch (e) {
			if (e instanceof DOMException && e.name === 'AbortError') return;
			[this.problem, this.database] = [problemOf(e), null];
		}
	}

	/** Reads it, and follows what happens to it until the function that it returns is called. */
	follow(): () => void {
		this.load();
		return live.watch({
			database: (_, address) => address === this.database?.address && this.load(),
			change: (c) => c.server === this.server && c.ended && c.kind !== 'database.create' && this.load(),
			resync: () => this.load()
		});
	}

	/** What is asked first of a database: how large it is, who uses it, who made it. */
	figures(engine: Engine | undefined): Fact[] {
		const d = this.database;
		if (!d) return [];
		const [last, lastRemark] = lastUse(d.last_use, d.sessions);
		return [
			...propertiesOf(engine)
				.filter((f) => f.show === 'list' && !f.group && f.name !== 'comment')
				.map((f) => ({ title: f.title.toLowerCase(), value: fieldText(f, property(d, f.name)) || 'none' })),
			{ title: 'size', value: size(d.size), remark: d.size == null ? 'not known' : `${count(d.size)} bytes` },
			{
				title: 'tables',
				value: count(d.tables),
				remark:
					d.tables === 0
						? 'empty: nothing has been installed in it'
						: d.tables == null
							? 'cannot be counted: nobody can connect'
							: undefined
			},
			{ title: 'sessions', value: count(d.sessions) },
			{ title: 'last use', value: last, remark: lastRemark },
			...(engine?.fields.database?.some((f) => f.name === 'comment')
				? [{ title: 'comment', value: d.comment || 'none' }]
				: []),
			{
				title: 'created',
				value: d.created_by ? `${exact(d.created_by.at)} by ${d.created_by.operator}` : 'not known',
				remark: d.created_by ? undefined : 'it was not made by Genarch, and the engine does not tell'
			}
		];
	}

	/** Everything that the engine tells of it. */
	properties(engine: Engine | undefined): Fact[] {
		const d = this.database;
		if (!d) return [];
		const out: Fact[] = [];
		for (const f of propertiesOf(engine)) {
			const value = property(d, f.name);
			const text = fieldText(f, value);
			if (text && f.type === 'table')
				text.split('\n').forEach((line, i, all) =>
					out.push({
						title: i === 0 ? f.title.toLowerCase() : '',
						value: line,
						remark: i === all.length - 1 && f.decides ? `decides ${f.decides}` : ''
					})
				);
			else if (text)
				out.push({ title: f.title.toLowerCase(), value: text, remark: f.decides ? `decides ${f.decides}` : '' });
			else if (!f.group && f.in) out.push({ title: f.title.toLowerCase(), value: 'none', remark: f.default });
		}
		return out;
	}
}
