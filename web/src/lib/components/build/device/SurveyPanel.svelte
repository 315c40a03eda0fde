<script lang="ts">
  import { compareSurvey, pointsFromSurvey, surveyWords } from '@halvix/core/survey';
  import { KIND_WORDS } from '@halvix/core/point';
  import { addressOf, FIRST_PROTOCOL, type SurveyedPoint } from '@halvix/core/protocols';
  import type { DraftPoint } from '@halvix/core/config';
  import { onMount } from 'svelte';
  import { messageOf, post } from '$lib/ask.ts';
  import { draft, type Change, type Held } from '$lib/build/draft.svelte.ts';
  import { pointRows } from '$lib/build/grid/rows.ts';
  import { live } from '$lib/live/live.svelte.ts';

  /** What a running device answers, against its list; what differs can be taken over. */
  let { device }: { device: string } = $props();
  let id = $state<string | null>(null);
  let problem = $state<string | null>(null);
  let list = $state.raw<Held<DraftPoint>[]>([]);
  let taken = $state<string | null>(null);

  const probe = $derived(live.probe?.id === id ? live.probe : null);
  const surveyed = $derived(probe?.result.surveyed ?? null);
  const result = $derived(
    surveyed === null
      ? null
      : compareSurvey(
          surveyed,
          list.map(({ document }) => document),
        ),
  );
  const agrees = $derived(
    result !== null && result.unlisted.length === 0 && result.silent.length === 0 && result.otherKind.length === 0,
  );

  onMount(() => {
    void begin();
    return () => live.watch({ probe: null });
  });

  async function begin(): Promise<void> {
    problem = null;
    taken = null;
    list = await pointRows([device]);
    draft.noteVersions(list);
    const next = crypto.randomUUID();
    const answer = await post('/api/probes', { id: next, request: { type: 'survey', device } }).catch(() => null);
    if (answer === null) problem = 'The server cannot be reached.';
    else if (!answer.ok) problem = await messageOf(answer);
    else {
      id = next;
      live.watch({ probe: next });
    }
  }

  async function take(label: string, changes: Change[], before: unknown[]): Promise<void> {
    const outcome = await draft.change(label, changes, before);
    if (!outcome.ok) {
      problem = outcome.words;
      return;
    }
    taken = `${changes.length} taken over into the draft.`;
    list = await pointRows([device]);
  }

  const add = (points: SurveyedPoint[]): Promise<void> =>
    take(
      `add ${points.length} surveyed points to ${device}`,
      pointsFromSurvey(points, draft.device(device)?.document.protocol ?? FIRST_PROTOCOL).map((document) => ({
        id: null,
        kind: 'point',
        parent: device,
        expected: null,
        document,
      })),
      [],
    );
  const heldOf = (points: readonly DraftPoint[]): Held<DraftPoint>[] => {
    const wanted = new Set(points);
    return list.filter(({ document }) => wanted.has(document));
  };
  const drop = (points: readonly DraftPoint[]): Promise<void> => {
    const gone = heldOf(points);
    return take(
      `take ${gone.length} silent points out of ${device}`,
      gone.map(({ id: one, version }) => ({
        id: one,
        kind: 'point',
        parent: device,
        expected: version,
        document: null,
      })),
      gone.map(({ document }) => document),
    );
  };
  const turn = (pairs: readonly { point: DraftPoint; answers: SurveyedPoint }[]): Promise<void> => {
    const kinds = new Map(pairs.map(({ point, answers }) => [point, answers.kind]));
    const held = heldOf(pairs.map(({ point }) => point));
    return take(
      `change the kind of ${held.length} points of ${device}`,
      held.map(({ id: one, version, document }) => ({
        id: one,
        kind: 'point',
        parent: device,
        expected: version,
        document: { ...document, kind: kinds.get(document) ?? document.kind },
      })),
      held.map(({ document }) => document),
    );
  };
</script>

{#if problem}<p role="alert" class="text-alarm">{problem}</p>{/if}
{#if probe?.result.problem}<p role="alert" class="text-alarm">{probe.result.problem}</p>{/if}
{#if taken}<p class="font-medium" aria-live="polite">{taken}</p>{/if}
{#if result === null && probe?.state !== 'bad'}<p class="text-soft">Asking the device …</p>{/if}
{#if probe && probe.result.attributes.length > 0}
  <p class="text-[13px]" data-testid="attributes">
    It says of itself: {#each probe.result.attributes as { name, text }, i (name)}{i > 0 ? ', ' : ''}<span
        class="text-soft">{name.toLowerCase()}</span
      >
      {text}{/each}.
  </p>
{/if}
{#if result}
  <table class="text-[13px]" data-testid="survey-counts">
    <thead
      ><tr class="text-left text-soft"
        ><th class="pr-6 font-normal">Kind</th><th class="pr-6 text-right font-normal">in the list</th><th
          class="text-right font-normal">answers</th
        ></tr
      ></thead
    >
    <tbody>
      {#each result.counts as { kind, listed, answered } (kind)}
        <tr class="border-t border-rule" class:text-questionable={listed !== answered}>
          <td class="py-1 pr-6">{KIND_WORDS[kind].many}</td><td class="mono pr-6 text-right">{listed}</td><td
            class="mono text-right">{answered}</td
          >
        </tr>
      {/each}
    </tbody>
  </table>
  {#if agrees}<p class="font-medium">List and device agree.</p>{/if}
  {#if result.unlisted.length > 0}
    <section>
      <div class="flex items-center gap-3">
        <h2>{result.unlisted.length} answer but are not in the list</h2>
        <button class="button" onclick={() => void add(result.unlisted)}>Add all to the list</button>
      </div>
      <p class="mono mt-1 max-h-28 overflow-y-auto text-soft">
        {result.unlisted.slice(0, 400).map(surveyWords).join(', ')}
      </p>
    </section>
  {/if}
  {#if result.otherKind.length > 0}
    <section>
      <div class="flex items-center gap-3">
        <h2>{result.otherKind.length} answer as another kind</h2>
        <button class="button" onclick={() => void turn(result.otherKind)}>Take over the kind that answers</button>
      </div>
      <ul class="mt-1 max-h-28 overflow-y-auto">
        {#each result.otherKind.slice(0, 200) as { point, answers } (point)}
          <li>{addressOf(point)} {point.name}: answers as {surveyWords(answers)}</li>
        {/each}
      </ul>
    </section>
  {/if}
  {#if result.silent.length > 0}
    <section>
      <div class="flex items-center gap-3">
        <h2>{result.silent.length} are in the list but do not answer</h2>
        <button class="button" onclick={() => void drop(result.silent)}>Take all out of the list</button>
      </div>
      <ul class="mt-1 max-h-40 overflow-y-auto">
        {#each result.silent.slice(0, 400) as point (point)}<li>
            {addressOf(point)}
            {point.name}
          </li>{/each}
      </ul>
    </section>
  {/if}
{/if}
<div class="flex justify-end">
  <button class="button" disabled={probe === null || probe.state === 'running'} onclick={() => void begin()}
    >Ask again</button
  >
</div>
