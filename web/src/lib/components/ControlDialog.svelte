<script lang="ts">
  import { deviceOf } from '@halvix/core/protocols';
  import { decimals } from '@halvix/core/point';
  import { ORDER_MODES } from '@halvix/core/path';
  import { Dialog } from 'bits-ui';
  import { onMount, untrack } from 'svelte';
  import { messageOf, post } from '../ask.ts';
  import { clock } from '../clock.svelte.ts';
  import {
    detailWords,
    expectedOf,
    isPulse,
    MODE_WORDS,
    operationWords,
    progressOf,
    wantedProblem,
    wantedWords,
    type OrderWanted,
  } from '../control.ts';
  import { clockTime, fullTime, valueWords } from '../format.ts';
  import { live } from '../live/live.svelte.ts';
  import { engineHop, type DeviceOnPath } from '../path.ts';
  import type { PointView } from '../server/points.ts';
  import type { CommandView } from '../live/topics.ts';
  import SetpointInput from './SetpointInput.svelte';

  /** A control in three parts: what, an explicit second step, and how it went. */
  let { point, device, close }: { point: PointView; device: DeviceOnPath; close: () => void } = $props();

  const control = untrack(() => point.control);
  const watchedId = untrack(() => point.setting?.follows.pointId ?? point.control?.feedback?.pointId ?? null);
  let part = $state<'what' | 'sure' | 'sent'>('what');
  let wanted = $state<OrderWanted>(sensible());
  type OrderMode = (typeof ORDER_MODES)[number];
  const possible = untrack(() => deviceOf(device.protocol).orders.modes);
  const modes: readonly OrderMode[] = ORDER_MODES.filter((one) => possible.includes(one));
  const MODE_TITLES: Record<OrderMode, [title: string, words: string]> = {
    selectOperate: ['Select, then operate', 'the device checks first and carries out only what it selected'],
    direct: ['Direct operate', 'one message'],
    directNoAnswer: ['Direct, unanswered', 'one message, the device does not say what it thinks of it'],
  };
  /** A text goes out in one message. */
  const isText = untrack(() => point.kind === 'text');
  let mode = $state<OrderMode>(isText ? 'direct' : modes[0]);
  let id = '';
  let command = $state.raw<CommandView | null>(null);
  let problem = $state<string | null>(null);
  let sending = $state(false);
  /** Buttons of a new part take no click at first: it may be the second half of a double click on the part before. */
  let ready = $state(true);
  const READY_AFTER_MS = 600;

  const shownReading = $derived(watchedId === null ? undefined : live.points[watchedId]);
  /** The point that shows what became of it, as it is now. */
  const shownNow = $derived.by(() => {
    if (shownReading === undefined) return null;
    const { raw, value, text } = shownReading;
    if (point.setting && point.kind === 'text') return { name: point.setting.follows.name, words: `“${text ?? ''}”` };
    if (point.setting) {
      const { name, unit } = point.setting.follows;
      return { name, words: `${valueWords(point, raw, value)}${unit ? ` ${unit}` : ''}` };
    }
    const feedback = control?.feedback;
    return feedback
      ? { name: feedback.name, words: valueWords({ gain: 1, offset: 0, states: feedback.states }, raw, value) }
      : null;
  });
  const expected = $derived(expectedOf(wanted, point));
  const current = $derived(live.command?.id === command?.id && live.command !== null ? live.command : command);
  const steps = $derived(current ? progressOf(current, expected !== null) : []);
  const ended = $derived(current?.ended !== null && current !== null);
  const limits = $derived(wantedProblem(wanted, point));

  onMount(() => {
    live.watch({ also: watchedId === null ? [] : [watchedId] });
    return () => live.watch({ also: [], command: null });
  });

  /** What would change something, going by the point that shows it. */
  function sensible(): OrderWanted {
    const now = watchedId === null ? undefined : live.points[watchedId];
    if (point.kind === 'text') return { operation: 'write', text: now?.text ?? '' };
    if (control === null) return { operation: 'set', value: now ? Number(now.value.toFixed(decimals(point))) : null };
    const { feedback, operations, onMs, offMs } = control;
    const operation =
      operations.find(
        (one) => now !== undefined && feedback?.expect[one] !== undefined && feedback.expect[one] !== now.raw,
      ) ?? operations[0];
    return { operation, onMs, offMs, count: 1 };
  }

  function show(next: typeof part): void {
    part = next;
    ready = false;
    setTimeout(() => (ready = true), READY_AFTER_MS);
  }

  function goOn(): void {
    // One id for all that follows: however often it is sent, it is one command.
    id = crypto.randomUUID();
    problem = null;
    show('sure');
  }

  async function send(): Promise<void> {
    if (sending) return;
    sending = true;
    problem = null;
    const order = { id, pointId: point.id, mode, ...wanted };
    const answer = await post('/api/commands', order).catch(() => null);
    sending = false;
    if (answer === null) {
      problem = 'No answer from the server. Pressing again is safe: it is the same command and is carried out once.';
      return;
    }
    if (!answer.ok) {
      problem = await messageOf(answer);
      return;
    }
    command = (await answer.json()) as CommandView;
    show('sent');
    live.watch({ command: command.id });
  }

  function onOpenChange(open: boolean): void {
    if (!open) close();
  }
</script>

<Dialog.Root open {onOpenChange}>
  <Dialog.Portal>
    <Dialog.Overlay class="fixed inset-0 z-40 bg-black/30" />
    <Dialog.Content
      interactOutsideBehavior="ignore"
      class="panel fixed top-[9vh] left-1/2 z-50 flex max-h-[84vh] w-[580px] max-w-[96vw] -translate-x-1/2 flex-col gap-4 overflow-y-auto p-6 shadow-xl"
      data-testid="control-dialog"
    >
      <div>
        <Dialog.Title class="text-[18px] font-semibold">{point.name}</Dialog.Title>
        <Dialog.Description class="text-soft">
          {device.code}
          {device.name}, {point.address}{#if shownNow !== null}. {shownNow.name} is now
            <b class="text-ink">{shownNow.words}</b>{/if}
        </Dialog.Description>
      </div>

      {#if part === 'what'}
        <form
          class="flex flex-col gap-4"
          onsubmit={(event) => {
            event.preventDefault();
            goOn();
          }}
        >
          {#if wanted.operation === 'set'}
            <SetpointInput {point} bind:value={wanted.value} />
          {:else if wanted.operation === 'write'}
            <label class="flex flex-col gap-1"
              >Text<input
                class="field text-[16px]"
                maxlength="255"
                autocomplete="off"
                bind:value={wanted.text}
              /></label
            >
          {:else}
            <fieldset class="flex flex-wrap gap-2">
              <legend class="mb-1 text-soft">Operation</legend>
              {#each control?.operations ?? [] as one (one)}
                <label class="button" class:first={wanted.operation === one}
                  ><input class="sr-only" type="radio" bind:group={wanted.operation} value={one} />{operationWords(
                    one,
                  )}</label
                >
              {/each}
            </fieldset>
          {/if}
          <fieldset hidden={modes.length < 2 || isText}>
            <legend class="mb-1 text-soft">How</legend>
            {#each modes as one (one)}
              <label class="flex items-baseline gap-2"
                ><input type="radio" bind:group={mode} value={one} /><span
                  ><b>{MODE_TITLES[one][0]}</b>: {MODE_TITLES[one][1]}</span
                ></label
              >
            {/each}
          </fieldset>
          {#if wanted.operation !== 'set' && wanted.operation !== 'write' && isPulse(wanted.operation)}
            <div class="flex gap-4">
              <label class="flex flex-col gap-1"
                >On time, ms<input
                  class="field w-28"
                  type="number"
                  min="0"
                  max="600000"
                  bind:value={wanted.onMs}
                /></label
              >
              <label class="flex flex-col gap-1"
                >Off time, ms<input
                  class="field w-28"
                  type="number"
                  min="0"
                  max="600000"
                  bind:value={wanted.offMs}
                /></label
              >
              <label class="flex flex-col gap-1"
                >Count<input class="field w-20" type="number" min="1" max="255" bind:value={wanted.count} /></label
              >
            </div>
          {/if}
          {#if limits}<p role="alert" class="text-alarm">{limits}</p>{/if}
          <div class="flex justify-end gap-2">
            <Dialog.Close class="button" type="button">Cancel</Dialog.Close>
            <button class="button first" disabled={limits !== null || !ready}>Next: look it over</button>
          </div>
        </form>
      {:else if part === 'sure'}
        <div class="border-l-4 border-alarm bg-ground p-4" data-testid="control-summary">
          <p>
            <b>{wantedWords(wanted, point)}</b> goes to <b>{device.name}</b> at {device.link.endpoint}, {device.where},
            output {point.address} “{point.name}”.
          </p>
          <p class="mt-1">
            {MODE_WORDS[mode].replace(/^./, (first) => first.toUpperCase())}; {detailWords(wanted, point)}.
          </p>
          <p class="mt-1">
            {#if expected}
              {expected.name} has to become <b>{expected.value}</b> to show that it happened.
            {:else}No point shows whether it happened: you will see only that the device accepted.{/if}
          </p>
        </div>
        {#if problem}<p role="alert" class="text-alarm">{problem}</p>{/if}
        <div class="flex justify-end gap-2">
          <button class="button" disabled={!ready} onclick={() => show('what')}>Back</button>
          <button class="button grave" disabled={sending || !ready} onclick={() => void send()}
            >Send “{wantedWords(wanted, point).replace(/^./, (first) => first.toLowerCase())}” to {device.code}</button
          >
        </div>
      {:else}
        {#if !ended && engineHop(live.hops, clock.now).state === 'lost'}
          <p role="alert" class="text-alarm" data-testid="control-stranded">
            {current?.sent === null
              ? 'The engine has stopped. Nothing was sent, and nothing will be: the control expires.'
              : 'The engine has stopped. Whether it happened, only the device knows: look at its point, or at the device.'}
          </p>
        {/if}
        <ol class="flex flex-col" data-testid="control-progress" aria-live="polite">
          {#each steps as step (step.words)}
            <li
              class="grid grid-cols-[18px_1fr_auto] items-baseline gap-2 border-t border-rule py-2"
              class:text-soft={step.state === 'later'}
              class:text-alarm={step.state === 'failed'}
            >
              <span aria-hidden="true">{{ done: '●', now: '◌', later: '○', failed: '✕' }[step.state]}</span>
              <span>{step.words}{step.state === 'now' ? ' …' : ''}</span>
              <span class="mono" title={step.time === null ? undefined : fullTime(step.time)}>
                {#if step.time !== null}{clockTime(
                    step.time,
                    clock.now,
                  )}{#if current && step.time > current.requested}<span class="pl-2 text-soft"
                      >+{step.time - current.requested} ms</span
                    >{/if}{/if}
              </span>
            </li>
          {/each}
        </ol>
        <div class="flex justify-end gap-2">
          {#if ended}<button class="button" disabled={!ready} onclick={() => show('what')}>Another control</button>{/if}
          <Dialog.Close class="button first" disabled={!ready}>{ended ? 'Done' : 'Close, it goes on'}</Dialog.Close>
        </div>
      {/if}
    </Dialog.Content>
  </Dialog.Portal>
</Dialog.Root>
