import { mount } from 'svelte';
import App from './App.svelte';
import './app.css';

// A page that is fetched when it is wanted may be gone: the service was upgraded since
// this console was opened. The new console has it. Once only, or a page that cannot be
// had at all would be asked for without end.
window.addEventListener('vite:preloadError', (e) => {
	const last = Number(sessionStorage.getItem('reloaded'));
	if (Date.now() - last < 30_000) return;
	e.preventDefault();
	sessionStorage.setItem('reloaded', String(Date.now()));
	location.reload();
});

const target = document.getElementById('app');
if (target) mount(App, { target });
