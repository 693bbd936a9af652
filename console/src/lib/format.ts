import type { Brief } from './api';

const units = ['B', 'KiB', 'MiB', 'GiB', 'TiB', 'PiB'];

/** Bytes in binary units, three figures. */
export function size(bytes: number | null | undefined): string {
	if (bytes === null || bytes === undefined) return '?';
	let value = bytes;
	let unit = 0;
	while (value >= 1024 && unit < units.length - 1) {
		value /= 1024;
		unit++;
	}
	const digits = unit === 0 || value >= 100 ? 0 : value >= 10 ? 1 : 2;
	return `${value.toFixed(digits)} ${units[unit]}`;
}

/** Bytes in the largest unit that needs no fraction, as sizes are asked for. */
export function exactSize(bytes: number): string {
	let value = bytes;
	let unit = 0;
	while (value && value % 1024 === 0 && unit < units.length - 1) {
		value /= 1024;
		unit++;
	}
	return `${value} ${units[unit]}`;
}

/** A number with thin spaces, or ? when it is not known. */
export function count(n: number | null | undefined): string {
	return n === null || n === undefined ? '?' : n.toLocaleString('en').replaceAll(',', '\u202f');
}

/** How long ago, in the largest unit that fits. */
export function ago(at: string | Date, now: number): string {
	const seconds = Math.round((now - new Date(at).getTime()) / 1000);
	if (seconds < 5) return 'just now';
	if (seconds < 60) return `${seconds} s ago`;
	if (seconds < 3600) return `${Math.floor(seconds / 60)} min ago`;
	if (seconds < 86400) return `${Math.floor(seconds / 3600)} h ago`;
	return `${Math.floor(seconds / 86400)} d ago`;
}

/** Where a client comes from, without its port: ::1 of [::1]:47314. */
export function address(client: string | undefined): string {
	if (!client) return '';
	if (client.startsWith('[')) return client.slice(1, client.indexOf(']'));
	return client.split(':').length === 2 ? client.slice(0, client.indexOf(':')) : client;
}

/** The exact time, in UTC as everywhere in Genarch. */
export function exact(at: string | Date): string {
	return new Date(at)
		.toISOString()
		.replace('T', ' ')
		.replace(/\.\d+Z$/, ' UTC');
}

/** The short form of an identity: the mark of ours, if there is one. */
export function identityText(identity: { key: string; marks: Record<string, string> } | undefined): string {
	if (!identity) return '';
	return identity.marks?.marker ? `marker ${identity.marks.marker}` : identity.key;
}

/** A length of time. */
export function took(from?: string | null, until?: string | null): string {
	if (!from || !until) return '';
	const ms = new Date(until).getTime() - new Date(from).getTime();
	return ms < 10000 ? `${Math.max(0, Math.round(ms))} ms` : `${(ms / 1000).toFixed(1)} s`;
}

/** A length of time in its two largest units: 3 h 20 min. */
export function span(seconds: number): string {
	const s = Math.max(0, Math.floor(seconds));
	if (s < 60) return `${s} s`;
	if (s < 3600) return `${Math.floor(s / 60)} min ${s % 60} s`;
	if (s < 86400) return `${Math.floor(s / 3600)} h ${Math.floor((s % 3600) / 60)} min`;
	return `${Math.floor(s / 86400)} d ${Math.floor((s % 86400) / 3600)} h`;
}

/** The length of time since something began, as of a reading; nothing if it has not. */
export function since(from: string | null | undefined, read: string): string {
	return from ? span((new Date(read).getTime() - new Date(from).getTime()) / 1000) : '';
}

/** When something was last used, and what that rests on. */
export function lastUse(
	use: { last?: string; since: string; unobserved: number } | undefined,
	sessions: number | null
): [string, string?] {
	if (sessions) return ['now'];
	if (!use) return ['not known', 'the server is not watched yet'];
	const unobserved = use.unobserved >= 60 ? `; for ${span(use.unobserved)} of that nobody looked` : '';
	return [use.last ? exact(use.last) : 'not seen', `Genarch has watched since ${exact(use.since)}${unobserved}`];
}

const titles: Record<string, string> = { ctype: 'character type', is_template: 'may serve as template' };

/** The name of a setting as a person says it. */
export function settingTitle(name: string): string {
	return titles[name] ?? name.replaceAll('_', ' ');
}

/** What a brief comes to in a few words, for those who hear it while they type. */
export function said(brief: Brief | null): string {
	if (!brief) return '';
	const of = (kind: string) => brief.findings.filter((f) => f.level === kind).length;
	const parts = [
		[of('stop'), 'stops it'],
		[of('caution'), 'to be accepted'],
		[brief.steps.length, 'steps']
	] as const;
	return (
		parts
			.filter(([n]) => n > 0)
			.map(([n, what]) => `${n} ${what}`)
			.join(', ') || 'nothing to say yet'
	);
}

/** A name with what cannot be seen made visible. */
export function visible(name: string): string {
	return name.replace(/[\p{Cc}\p{Cf}\p{Zl}\p{Zp}\p{Co}\p{Cs}\uFFFD\u115f\u1160\u3164\uffa0\ufe00-\ufe0f]/gu, escaped);
}

/** A text of several lines, such as a statement: the same, but line ends and tabs stay. */
export function visibleText(text: string): string {
	return text.replace(
		/(?![\n\t])[\p{Cc}\p{Cf}\p{Zl}\p{Zp}\p{Co}\p{Cs}\uFFFD\u115f\u1160\u3164\uffa0\ufe00-\ufe0f]/gu,
		escaped
	);
}

function escaped(c: string): string {
	return `\\u{${(c.codePointAt(0) ?? 0).toString(16)}}`;
}

/** A word as it stands at the head of a column. */
export function capital(word: string): string {
	return word.slice(0, 1).toUpperCase() + word.slice(1);
}

/** Says in words what the class or state of a session is. */
export const codeWords = (code: string): string =>
	({ written: 'written work', hidden: 'not visible', own: 'Genarch' })[code] ?? code.replaceAll('_', ' ');
