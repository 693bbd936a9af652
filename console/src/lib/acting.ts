import { getContext, setContext } from 'svelte';
import type { Action } from './api';

/** What a page can do about an option that a finding names. */
export type Acting = {
	/** The address that actions without one are about. */
	here: () => string;
	/** Sets the option, where the page can. */
	set?: (action: Action) => void;
	/** Whether the page can. */
	can?: (action: Action) => boolean;
};

const key = Symbol('acting');

/** Says, for all that stands on a page, how options that are offered there are set. */
export const provideActing = (acting: Acting): Acting => setContext(key, acting);

export const acting = (): Acting | undefined => getContext<Acting | undefined>(key);
