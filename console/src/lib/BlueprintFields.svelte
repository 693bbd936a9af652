<script lang="ts">
	import { api, type Blueprint } from './api';
	import { to } from '../router';

	/** Which recipe to follow, and the values that it asks for. */
	type Props = { environment?: string; chosen: string; values: Record<string, string>; name: string };
	let { environment, chosen = $bindable(), values = $bindable(), name = $bindable() }: Props = $props();

	let all = $state.raw<Blueprint[]>([]);
	$effect(
		() =>
			void api.blueprints().then(
				(l) => (all = l.blueprints),
				() => {}
			)
	); // without them, there is no choice
	const fit = $derived(all.filter((b) => !b.environments.length || b.environments.includes(environment ?? '')));
	const blueprint = $derived(fit.find((b) => b.name === chosen));

	function choose(next: string): void {
		[chosen, values] = [next, {}];
	}
	// The database's name follows from the values.
	$effect(() => {
		const rule = blueprint?.name_rule;
		if (!rule || blueprint.parameters.some((p) => !values[p.name] && p.default === null)) return;
		name = rule.replace(
			/\{([^{}]*)\}/g,
			(_, key) => values[key] || (blueprint.parameters.find((p) => p.name === key)?.default ?? '')
		);
	});
</script>

{#if fit.length}<fieldset class="border-base-300 rounded-box flex flex-col gap-3 border px-4 py-3">
		<legend class="label-text px-1">Blueprint</legend>
		<select
			name="blueprint"
			class="select w-full"
			aria-label="Blueprint"
			value={chosen}
			onchange={(e) => choose(e.currentTarget.value)}
		>
			<option value="">none</option>
			{#each fit as b (b.name)}<option value={b.name}>{b.name}{b.title ? `: ${b.title}` : ''}</option>{/each}
		</select>
		{#if blueprint}
			{#if blueprint.description}<p class="quiet text-sm">{blueprint.description}</p>{/if}
			<div class="grid gap-4 sm:grid-cols-2">
				{#each blueprint.parameters as p (p.name)}<label class="flex flex-col gap-1"
						><span class="label-text">{p.title || p.name}</span>
						{#if p.values.length}<select name="with_{p.name}" class="select w-full" bind:value={values[p.name]}>
								{#if p.default === null}<option value={undefined}>choose …</option>{/if}
								{#each p.values as v (v)}<option value={v === p.default ? undefined : v}>{v}</option>{/each}
							</select>{:else}<input
								name="with_{p.name}"
								class="input mono w-full"
								autocomplete="off"
								autocapitalize="none"
								spellcheck="false"
								placeholder={p.default ?? p.pattern ?? ''}
								bind:value={values[p.name]}
							/>{/if}
						{#if p.description}<span class="quiet text-sm">{p.description}</span>{/if}</label
					>{/each}
			</div>
			<p class="quiet text-sm">
				Version {blueprint.version}; <a class="link-plain" href={to.blueprint(blueprint.name)}>what it says</a>. What is
				asked for below goes before it.
			</p>
		{/if}
	</fieldset>{/if}
