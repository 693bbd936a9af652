import { readdirSync, readFileSync, statSync, writeFileSync } from 'node:fs';
import { join } from 'node:path';
import { brotliCompressSync, constants, gzipSync } from 'node:zlib';
import { svelte } from '@sveltejs/vite-plugin-svelte';
import tailwindcss from '@tailwindcss/vite';
import { defineConfig, type Plugin } from 'vite';

/** Compresses what was built, so that the service need not do it at its start. */
function compress(): Plugin {
	const walk = (dir: string): string[] =>
		readdirSync(dir).flatMap((name) => {
			const path = join(dir, name);
			return statSync(path).isDirectory() ? walk(path) : [path];
		});
	return {
		name: 'compress',
		apply: 'build',
		closeBundle() {
			for (const path of walk('dist')) {
				if (!/\.(js|css|html|svg)$/.test(path)) continue;
				const text = readFileSync(path);
				if (text.length < 600) continue;
				writeFileSync(path + '.gz', gzipSync(text, { level: 9 }));
				writeFileSync(path + '.br', brotliCompressSync(text, { params: { [constants.BROTLI_PARAM_QUALITY]: 11 } }));
			}
		}
	};
}

export default defineConfig({
	plugins: [tailwindcss(), svelte(), compress()],
	build: { assetsInlineLimit: 0, target: 'es2022', modulePreload: { polyfill: false } }
});
