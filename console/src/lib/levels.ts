/** What the letters of an access matrix stand for; upper case has more to it. */
export const levels: Record<string, { word: string; means: string }> = {
	'-': { word: 'none', means: 'cannot get in, or has nothing there' },
	'?': { word: 'unknown', means: 'the database could not be looked into' },
	n: { word: 'connect', means: 'may connect, and nothing else' },
	c: { word: 'custom', means: 'has something that fits no bundle' },
	r: { word: 'read', means: 'reads all data' },
	w: { word: 'write', means: 'reads and writes all data' },
	b: { word: 'build', means: 'writes, and makes tables' },
	o: { word: 'own', means: 'everything on it' }
};

/** The level of a cell, and whether it has more than the bundle or a gap. */
export function cell(letter = '?'): { word: string; differs: boolean } {
	const low = letter.toLowerCase();
	return { word: levels[low]?.word ?? '?', differs: low !== letter };
}

/** How a level is coloured: weight by how much it allows. Never the only sign. */
export const tone: Record<string, string> = {
	none: 'quiet',
	unknown: 'italic',
	connect: 'quiet',
	custom: 'italic',
	read: '',
	write: 'font-semibold',
	build: 'font-semibold',
	own: 'font-bold underline decoration-2 underline-offset-4'
};
