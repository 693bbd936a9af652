import type { components } from '../api';
import { csrfToken, Failure, type Problem } from './api';

export type Script = components['schemas']['Script'];

/** Sends a script for a server; tell hears how many bytes went. Ended by the signal, nothing of it is kept. */
export function sendScript(
	server: string,
	file: File,
	tell: (sent: number) => void,
	signal: AbortSignal
): Promise<Script> {
	// What is sent is followed here, which fetch cannot do.
	const call = new XMLHttpRequest();
	const place = `/api/v1/servers/${encodeURIComponent(server)}/scripts?${new URLSearchParams({ file: file.name })}`;
	return new Promise((done, fail) => {
		const cut = (detail: string) =>
			fail(new Failure({ status: 0, code: 'unreachable', title: 'Not sent', detail } as Problem));
		call.open('POST', place);
		call.setRequestHeader('Content-Type', 'application/octet-stream');
		call.setRequestHeader('X-Genarch-CSRF', csrfToken());
		call.responseType = 'json';
		call.upload.onprogress = (e) => tell(e.loaded);
		call.onload = () =>
			call.status === 201
				? done(call.response as Script)
				: call.response
					? fail(new Failure(call.response as Problem))
					: cut('The service did not take the script.');
		call.onerror = () => cut('The connection was lost before the script was sent. Send it again.');
		call.onabort = () => fail(new DOMException('given up', 'AbortError'));
		signal.addEventListener('abort', () => call.abort(), { once: true });
		call.send(file);
	});
}
