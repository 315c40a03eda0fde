<script lang="ts">
  import { KIND_WORDS } from '@halvix/core/point';
  import { decodeText } from '@halvix/core/pointlist';
  import type { AgreementComparison } from '@halvix/core/mapping';
  import { messageOf, post } from '$lib/ask.ts';
  import { Changes } from '$lib/build/changes.ts';
  import { draft } from '$lib/build/draft.svelte.ts';
  import { rowsOfWorkbook } from '$lib/build/forms.ts';
  import Sheet from '../grid/Sheet.svelte';

  /** A file of the other party, or of ours, against what is drafted; what is missing can be taken over. */
  interface Props {
    code: string;
    party: string;
    /** The device whose list gets what they give; null: none is said to be theirs. */
    device: string | null;
    file: File;
    mayBuild: boolean;
    taken: () => void;
    close: () => void;
  }
  let { code, party, device, file, mayBuild, taken, close }: Props = $props();

  interface Answer {
    by: 'us' | 'them';
    certain: boolean;
    given: number;
    got: number;
    compared: AgreementComparison;
  }
  let answer = $state.raw<Answer | null>(null);
  let problem = $state<string | null>(null);
  let busy = $state(false);
  const MOST = 200;

  async function bodyOf(): Promise<unknown> {
    if (/\.xlsx$/i.test(file.name)) return { rows: await rowsOfWorkbook(file) };
    const text = decodeText(new Uint8Array(await file.arrayBuffer()));
    if (!text.ok) throw new Error(text.problem);
    return { text: text.value };
  }
  async function look(by: 'us' | 'them' | null): Promise<void> {
    try {
      const said = await post(`/api/agreement/${code}${by === null ? '' : `?by=${by}`}`, await bodyOf());
      problem = said.ok ? null : await messageOf(said);
      if (said.ok) answer = (await said.json()) as Answer;
    } catch (error) {
      problem = `The file cannot be read: ${error instanceof Error ? error.message : String(error)}`;
    }
  }
  void look(null);

  const compared = $derived(answer?.compared ?? null);
  const points = $derived((compared?.missing ?? []).flatMap(({ point }) => (point ? [point] : [])));
  const mappings = $derived((compared?.wanted ?? []).flatMap(({ mapping }) => (mapping ? [mapping] : [])));
  const differences = $derived(
    compared === null
      ? 0
      : compared.missing.length +
          compared.different.length +
          compared.extra.length +
          compared.wanted.length +
          compared.unwanted.length,
  );

  async function take(): Promise<void> {
    if (device === null && points.length > 0) return;
    busy = true;
    const changes = new Changes();
    for (const point of points) changes.put('point', undefined, point, device ?? '');
    for (const mapping of mappings) changes.put('mapping', undefined, mapping, code);
    const outcome = await draft.change(
      `take the agreement of ${party} from ${file.name}`,
      changes.list,
      changes.before,
    );
    busy = false;
    if (!outcome.ok) problem = outcome.words;
    else {
      taken();
      await look(answer?.by ?? null);
    }
  }
  const counted = (count: number, one: string, many: string): string => `${count} ${count === 1 ? one : many}`;
</script>

{#snippet list(title: string, rows: readonly (readonly string[])[])}
  {#if rows.length > 0}
    <section aria-label={title}>
      <h3 class="pb-1 text-[13px]">{title} <span class="font-normal text-soft">{rows.length}</span></h3>
      <table class="w-full text-[12.5px]">
        <tbody>
          {#each rows.slice(0, MOST) as row, n (n)}
            <tr class="border-t border-rule">
              {#each row as text, c (c)}<td class="py-0.5 pr-3 align-top" class:mono={c === 0}>{text}</td>{/each}
            </tr>
          {/each}
        </tbody>
      </table>
      {#if rows.length > MOST}<p class="text-soft">and {rows.length - MOST} more</p>{/if}
    </section>
  {/if}
{/snippet}

<Sheet title="{file.name} against our draft" {close} wide>
  {#if problem}<p role="alert" class="text-alarm">{problem}</p>{/if}
  {#if answer && compared}
    <label class="flex items-center gap-2"
      >It was made by
      <select
        class="field"
        value={answer.by}
        onchange={(e) => void look(e.currentTarget.value === 'us' ? 'us' : 'them')}
      >
        <option value="them">{party}</option><option value="us">us</option>
      </select>
      {#if !answer.certain}<span class="text-soft">it does not say by whom</span>{/if}
    </label>
    <p data-testid="agreement-verdict">
      {differences === 0
        ? 'Both have the same.'
        : `${counted(differences, 'difference', 'differences')} from our draft.`}
      <span class="text-soft">It names {counted(answer.given, 'point', 'points')} given and {answer.got} got.</span>
    </p>
    <div class="flex max-h-[46vh] flex-col gap-4 overflow-y-auto">
      {@render list(
        `${party} gives, and our list lacks`,
        compared.missing.map(({ entry, point, problem: why }) => [
          entry.address,
          point ? KIND_WORDS[point.kind].one : why,
          point?.name ?? entry.name,
          entry.unit,
        ]),
      )}
      {@render list(
        'Otherwise in our list',
        compared.different.map(({ address, what, here, there }) => [
          address,
          what,
          `${here || 'nothing'} here`,
          `${there} in the file`,
        ]),
      )}
      {@render list(
        `In our list, and not given by ${party}`,
        compared.extra.map((address) => [address]),
      )}
      {@render list(
        `${party} wants, and we do not offer`,
        compared.wanted.map(({ entry, mapping }) => [
          entry.address,
          entry.name,
          mapping ? `${mapping.device} ${mapping.point}` : 'to be mapped',
        ]),
      )}
      {@render list(
        `We offer, and ${party} does not want`,
        compared.unwanted.map((address) => [address]),
      )}
    </div>
    {#if points.length > 0 && device === null}
      <p class="text-soft">Say in the outbound which device of ours {party} is: its list gets what they give.</p>
    {/if}
    <div class="flex justify-end gap-2">
      <button class="button" onclick={close}>Close</button>
      {#if mayBuild && points.length + mappings.length > 0}
        <button
          class="button first"
          disabled={busy || (device === null && points.length > 0)}
          onclick={() => void take()}
          >Take over {[
            ...(points.length > 0
              ? [`${counted(points.length, 'point', 'points')} into ${device ?? 'no device'}`]
              : []),
            ...(mappings.length > 0 ? [`${counted(mappings.length, 'mapping', 'mappings')}`] : []),
          ].join(' and ')}</button
        >
      {/if}
    </div>
  {:else if problem === null}<p>Reading …</p>{/if}
</Sheet>
