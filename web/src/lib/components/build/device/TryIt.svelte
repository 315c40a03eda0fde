<script lang="ts">
  import { type ProtocolCode, deviceOf } from '@halvix/core/protocols';
  import type { ProbeRequest } from '@halvix/core/path';
  import { onMount } from 'svelte';
  import { messageOf, post } from '$lib/ask.ts';
  import { clockTime } from '$lib/format.ts';
  import { clock } from '$lib/clock.svelte.ts';
  import { live } from '$lib/live/live.svelte.ts';
  import { engineHop } from '$lib/path.ts';

  /** Tries a device before it is saved: in steps, with what came back and what each failure usually means. */
  interface Props {
    protocol: ProtocolCode;
    request: () => ProbeRequest;
    blocked: string | null;
    hint: string | null;
  }
  let { protocol, request, blocked, hint }: Props = $props();
  let id = $state<string | null>(null);
  let problem = $state<string | null>(null);

  const probe = $derived(live.probe?.id === id ? live.probe : null);
  const running = $derived(id !== null && (probe === null || probe.state === 'requested' || probe.state === 'running'));
  const trial = $derived(deviceOf(protocol).trial);
  const steps = $derived<Record<string, string>>({ resolve: 'Find the host', connect: 'Connect', ...trial.steps });

  onMount(() => () => live.watch({ probe: null }));

  async function begin(): Promise<void> {
    problem = null;
    const next = crypto.randomUUID();
    const answer = await post('/api/probes', { id: next, request: request() }).catch(() => null);
    if (answer === null) problem = 'The server cannot be reached.';
    else if (!answer.ok) problem = await messageOf(answer);
    else {
      id = next;
      live.watch({ probe: next });
    }
  }

  async function cancel(): Promise<void> {
    await fetch('/api/probes', {
      method: 'DELETE',
      headers: { 'content-type': 'application/json' },
      body: JSON.stringify({ id }),
    }).catch(() => null);
  }
</script>

<section class="panel p-4" aria-label="Try it">
  <div class="flex items-center gap-3">
    <h2 class="whitespace-nowrap">Try it</h2>
    <span class="grow text-soft">{trial.words}</span>
    {#if running}<button class="button" type="button" onclick={() => void cancel()}>Cancel</button>
    {:else}<button
        class="button"
        type="button"
        disabled={blocked !== null}
        title={blocked ?? ''}
        onclick={() => void begin()}>{id === null ? 'Try it' : 'Try again'}</button
      >{/if}
  </div>
  {#if problem}<p role="alert" class="mt-2 text-alarm">{problem}</p>{/if}
  {#if hint && id !== null}<p class="mt-2 text-soft">{hint}</p>{/if}
  {#if id !== null}
    <ol class="mt-2" aria-live="polite" data-testid="try-steps">
      {#each probe?.result.steps ?? [] as step (step.step)}
        <li class="grid grid-cols-[18px_110px_1fr_auto] gap-2 border-t border-rule py-1.5">
          <span aria-hidden="true" class:text-alarm={step.state === 'bad'}
            >{{ running: '◌', good: '●', odd: '◐', bad: '✕' }[step.state]}</span
          >
          <span>{steps[step.step] ?? step.step}</span>
          <span class:text-alarm={step.state === 'bad'}>
            {step.words}{step.state === 'running' ? ' …' : ''}
            {#if step.meaning}<span class="block text-ink">{step.meaning}</span>{/if}
          </span>
          <span class="mono text-soft">{clockTime(step.at, clock.now)}</span>
        </li>
      {/each}
      {#if probe === null || probe.state === 'requested'}<li class="border-t border-rule py-1.5 text-soft">
          {engineHop(live.hops, clock.now).state === 'lost'
            ? 'no engine runs that could try it; it is given up when none comes'
            : 'waiting for the engine …'}
        </li>{/if}
    </ol>
    {#if probe?.state === 'good'}<p class="mt-1 font-medium" data-testid="try-outcome">It answers.</p>
    {:else if probe?.state === 'bad'}<p class="mt-1 font-medium text-alarm" data-testid="try-outcome">
        It does not work yet.
      </p>
    {:else if probe?.state === 'cancelled'}<p class="mt-1" data-testid="try-outcome">Cancelled.</p>{/if}
  {/if}
</section>
