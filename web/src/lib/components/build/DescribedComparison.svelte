<script lang="ts">
  import type { DraftPoint } from '@halvix/core/config';
  import { compareSurvey, pointsFromSurvey } from '@halvix/core/survey';
  import { addressOf, type DescribedPoint, type ProtocolCode } from '@halvix/core/protocols';
  import { Changes } from '$lib/build/changes.ts';
  import { draft, type Held } from '$lib/build/draft.svelte.ts';
  import { pointRows } from '$lib/build/grid/rows.ts';

  /** What a file says a device has, against the list that there is of it. */
  let {
    device,
    protocol,
    points,
    mayBuild,
  }: { device: string; protocol: ProtocolCode; points: readonly DescribedPoint[]; mayBuild: boolean } = $props();
  let list = $state.raw<readonly Held<DraftPoint>[] | null>(null);
  let problem = $state<string | null>(null);
  let done = $state<string | null>(null);

  $effect(() => {
    const code = device;
    void pointRows([code]).then((rows) => {
      draft.noteVersions(rows);
      list = rows;
    });
  });

  const result = $derived(
    list === null
      ? null
      : compareSurvey(
          points.map((point) => ({ ...point, form: point.name, value: 0, said: '' })),
          list.map(({ document }) => document),
        ),
  );
  /** The file may name more than anybody wants: what its reports carry is what is worth a word. */
  const missing = $derived(result?.unlisted ?? []);
  const gone = $derived(result?.silent ?? []);
  const renamed = $derived.by(() => {
    const named = new Map(points.map(({ address, name }) => [address, name]));
    return (list ?? []).flatMap(({ document }) => {
      const name = named.get(addressOf(document));
      return name !== undefined && name !== document.name ? [{ point: document, name }] : [];
    });
  });
  const MOST = 200;

  async function add(): Promise<void> {
    const changes = new Changes();
    for (const document of pointsFromSurvey(missing, protocol)) changes.put('point', undefined, document, device);
    const outcome = await draft.change(
      `add ${missing.length} points of a file to ${device}`,
      changes.list,
      changes.before,
    );
    if (!outcome.ok) {
      problem = outcome.words;
      return;
    }
    done = `${changes.list.length} taken over into the draft.`;
    list = await pointRows([device]);
  }
</script>

{#if problem}<p role="alert" class="text-alarm">{problem}</p>{/if}
{#if done}<p aria-live="polite">{done}</p>{/if}
{#if result === null}
  <p class="text-soft">Looking at the list of {device} …</p>
{:else}
  <div class="flex flex-col gap-2 text-[13px]" data-testid="comparison">
    {#if missing.length + gone.length + renamed.length === 0}<p class="font-medium">
        File and list of {device} agree.
      </p>{/if}
    {#if missing.length > 0}
      <div>
        <span class="font-medium">{missing.length} are in the file, not in the list of {device}</span>
        {#if mayBuild}<button class="button ml-2" onclick={() => void add()}>Add them</button>{/if}
        <p class="mono max-h-24 overflow-y-auto text-soft">
          {missing
            .slice(0, MOST)
            .map(({ address }) => address)
            .join(', ')}
        </p>
      </div>
    {/if}
    {#if gone.length > 0}
      <div>
        <span class="font-medium">{gone.length} are in the list, not in the file</span>
        <p class="mono max-h-24 overflow-y-auto text-soft">{gone.slice(0, MOST).map(addressOf).join(', ')}</p>
      </div>
    {/if}
    {#if renamed.length > 0}
      <div>
        <span class="font-medium">{renamed.length} are called otherwise there</span>
        <ul class="max-h-24 overflow-y-auto">
          {#each renamed.slice(0, MOST) as { point, name } (addressOf(point))}
            <li><span class="mono">{addressOf(point)}</span> {point.name}, there {name}</li>
          {/each}
        </ul>
      </div>
    {/if}
  </div>
{/if}
