<script lang="ts">
  import { devicePart, type ProtocolCode, deviceOf } from '@halvix/core/protocols';
  import { placementSchema, type Placement } from '@halvix/core/profile';
  import { readTable } from '@halvix/core/pointlist';
  import { untrack } from 'svelte';
  import { draft } from '$lib/build/draft.svelte.ts';

  /** Places for new devices: one row each, typed or pasted from a spreadsheet. */
  interface Props {
    like: Placement;
    protocol: ProtocolCode;
    make: (places: Placement[]) => Promise<string | null>;
    word: string;
  }
  let { like, protocol, make, word }: Props = $props();

  type Texts = Record<string, string>;
  /** The settings that differ from device to device, with their titles. */
  const own = untrack(() => {
    const { placed, fields } = deviceOf(protocol);
    return placed.map((key): [string, string, string] => [
      key,
      fields.find(({ path }) => path === `settings.${key}`)?.title ?? key,
      '110px',
    ]);
  });
  const COLUMNS: [string, string, string][] = [
    ['code', 'Code', '120px'],
    ['name', 'Name', '1fr'],
    ['station', 'Station', '110px'],
    ['host', 'Address of the device', '1fr'],
    ['port', 'TCP port', '90px'],
    ...own.toReversed(),
  ];
  const { theirs } = untrack(() => deviceOf(protocol).plan);
  const blank = (): Texts =>
    untrack(() => ({
      code: '',
      name: like.name,
      station: like.station,
      host: like.host,
      port: String(like.port),
      // Its own address is the device's own; ours stays what it was.
      ...Object.fromEntries(own.map(([key]) => [key, key === theirs ? '' : String(like.settings[key] ?? '')])),
    }));
  let rows = $state<Texts[]>([blank()]);
  let problem = $state<string | null>(null);
  let tried = $state(false);
  let busy = $state(false);

  const read = $derived(
    rows.map((row) => {
      const number = (text: string): number => (text.trim() === '' ? NaN : Number(text));
      const { code, name, station, host } = row;
      const settings = Object.fromEntries(own.map(([key]) => [key, number(row[key])]));
      const parsed = placementSchema.safeParse({ code, name, station, host, port: number(row.port), settings });
      if (!parsed.success) {
        const [issue] = parsed.error.issues;
        return { place: null, words: `${COLUMNS.find(([key]) => key === issue.path[0])?.[1] ?? ''}: ${issue.message}` };
      }
      const placed = devicePart.safeParse({ protocol, settings });
      const wrong = placed.success ? undefined : placed.error.issues.find(({ path }) => path[0] === 'settings');
      if (wrong !== undefined)
        return { place: null, words: `${own.find(([key]) => key === wrong.path[1])?.[1] ?? ''}: ${wrong.message}` };
      if (draft.device(row.code) || draft.of('link').some(({ document }) => document.code === row.code))
        return { place: null, words: `Code: ${row.code} is taken` };
      if (rows.filter((other) => other.code === row.code).length > 1)
        return { place: null, words: `Code: ${row.code} stands in two rows` };
      return { place: parsed.data, words: '' };
    }),
  );

  function paste(event: ClipboardEvent): void {
    const text = event.clipboardData?.getData('text/plain') ?? '';
    if (!/[\t\n]/.test(text.trim())) return;
    event.preventDefault();
    const table = readTable(text);
    if (!table.ok) {
      problem = table.problem;
      return;
    }
    const pasted = table.value.rows.map((cells) => {
      const row = blank();
      COLUMNS.forEach(([key], i) => {
        if (cells[i]?.trim()) row[key] = cells[i].trim();
      });
      row.code = row.code.toUpperCase();
      return row;
    });
    rows = [...rows.filter(({ code }) => code !== ''), ...pasted].slice(0, 500);
  }

  async function go(): Promise<void> {
    tried = true;
    const places = read.flatMap(({ place }) => place ?? []);
    if (places.length !== rows.length || busy) return;
    busy = true;
    problem = await make(places);
    busy = false;
  }
</script>

<form
  class="flex flex-col gap-2"
  onpaste={paste}
  onsubmit={(event) => {
    event.preventDefault();
    void go();
  }}
>
  <p class="text-soft">
    One row a device. Rows copied from a spreadsheet may be pasted here: {COLUMNS.map(([, title]) =>
      title.toLowerCase(),
    ).join(', ')}.
  </p>
  <div class="grid gap-1.5" style="grid-template-columns: {COLUMNS.map(([, , width]) => width).join(' ')} 24px">
    {#each COLUMNS as [key, title] (key)}<span class="text-[12.5px] text-soft">{title}</span>{/each}<span></span>
    {#each rows as row, i (i)}
      {#each COLUMNS as [key, title] (key)}
        <input
          class="field min-w-0"
          class:mono={key !== 'name'}
          aria-label="{title}, row {i + 1}"
          value={row[key]}
          oninput={(e) =>
            (row[key] =
              key === 'code' || key === 'station' ? e.currentTarget.value.toUpperCase() : e.currentTarget.value)}
        />
      {/each}
      <button
        type="button"
        class="text-accent"
        aria-label="Remove row {i + 1}"
        disabled={rows.length === 1}
        onclick={() => rows.splice(i, 1)}>✕</button
      >
      {#if tried && read[i]?.words}<p role="alert" class="col-span-full text-alarm">{read[i].words}</p>{/if}
    {/each}
  </div>
  {#if problem}<p role="alert" class="text-alarm">{problem}</p>{/if}
  <div class="flex justify-between gap-2">
    <button class="button" type="button" onclick={() => rows.push(blank())}>Another row</button>
    <button class="button first" disabled={busy}
      >{word} into the draft: {rows.length === 1 ? '1 device' : `${rows.length} devices`}</button
    >
  </div>
</form>
