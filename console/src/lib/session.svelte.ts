import { api, problemOf, useCsrf, watchSignOut, type Problem, type Session } from './api';

/** Who is signed in to this console. */
class SessionState {
	current = $state<Session | null>(null);
	known = $state(false);
	problem = $state<Problem | null>(null);

	constructor() {
		watchSignOut(() => this.#set(null));
	}

	get name(): string {
		return this.current?.operator.name ?? '';
	}

	may(permission: string): boolean {
		return this.current?.operator.permissions.includes(permission) ?? false;
	}

	#set(session: Session | null): void {
		this.current = session;
		this.known = true;
		useCsrf(session?.csrf ?? '');
	}

	/** Finds out whether the browser has a session already. */
	async load(): Promise<void> {
		try {
			this.#set(await api.session());
			this.problem = null;
		} catch (e) {
			const problem = problemOf(e);
			if (problem.code === 'sign_in') this.#set(null);
			else this.problem = problem;
		}
	}

	async signIn(name: string, password: string): Promise<void> {
		this.#set(await api.signIn(name, password));
	}

	/** Drops a notice that was read; it is told once. */
	heard(notice: NonNullable<Session['notices']>[number]): void {
		if (this.current) this.current.notices = this.current.notices?.filter((n) => n !== notice);
	}

	async signOut(): Promise<void> {
		await api.signOut();
		this.#set(null);
	}
}

export const session = new SessionState();
