<script lang="ts">
  import { onMount } from 'svelte';
  import { ask } from '$lib/ask.ts';
  import { clock } from '$lib/clock.svelte.ts';
  import Sheet from '$lib/components/build/grid/Sheet.svelte';
  import { clockTime, fullTime } from '$lib/format.ts';

  /** What went to a destination to which we push, packet by packet. */
  let { code, centre, maySend }: { code: string; centre: string; maySend: boolean } = $props();

  interface Packet {
    packet: number;
    first: number;
    last: number;
    tries: number;
    records: number;
    octets: number;
    state: 'under way' | 'delivered' | 'refused';
    words: string;
  }
  interface Content {
    to: string;
    octets: number;
    text: string;
    isCut: boolean;
  }
  const PAGE = 50;
  const LOOK_MS = 2000;

  let packets = $state.raw<Packet[]>([]);
  let hasMore = $state(false);
  let problem = $state<string | null>(null);
  let said = $state<string | null>(null);
  let open = $state<number | null>(null);
  let content = $state.raw<Content[] | null>(null);
  let isAskingSpan = $state(false);
  let [from, to] = $state(['', '']);

  async function read<Answer>(path: string): Promise<Answer | null> {
    try {
      const answer = await fetch(`/api/sent/${code}${path}`);
      const json = (await answer.json()) as Answer & { message?: string };
      problem = answer.ok ? null : (json.message ?? `the answer was ${answer.status}`);
      return answer.ok ? json : null;
    } catch {
      problem = 'The web does not answer';
      return null;
    }
  }

  /** The newest, in front of those that are there already. */
  async function look(): Promise<void> {
    const answer = await read<{ packets: Packet[] }>(`?limit=${PAGE}`);
    if (answer === null) return;
    const oldest = answer.packets.at(-1)?.packet ?? 0;
    const rest = packets.filter(({ packet }) => packet < oldest);
    if (packets.length === 0) hasMore = answer.packets.length === PAGE;
    packets = [...answer.packets, ...rest];
  }

  async function more(): Promise<void> {
    const answer = await read<{ packets: Packet[] }>(`?limit=${PAGE}&before=${packets.at(-1)?.packet ?? 0}`);
    if (answer === null) return;
    hasMore = answer.packets.length === PAGE;
    packets = [...packets, ...answer.packets];
  }

  async function show(packet: number): Promise<void> {
    open = open === packet ? null : packet;
    content = null;
    if (open === null) return;
    const answer = await read<{ messages: Content[] }>(`/${packet}`);
    if (open === packet) content = answer?.messages ?? null;
  }

  async function again(packet: number): Promise<void> {
    problem = await ask({ type: 'sendPacket', outbound: code, packet, by: '' });
    said = problem === null ? `Packet ${packet} goes once more, with the same ids.` : null;
  }

  async function span(): Promise<void> {
    const [begin, end] = [from, to].map((text) => new Date(text).getTime());
    if (Number.isNaN(begin)) problem = 'From: must be a date with a time';
    else if (Number.isNaN(end)) problem = 'To: must be a date with a time';
    else problem = await ask({ type: 'sendSpan', outbound: code, from: begin, to: end, by: '' });
    if (problem !== null) return;
    isAskingSpan = false;
    said = 'What history has goes once more, with new ids. How far it got is written in the last events of the board.';
  }

  function begin(): void {
    const local = (time: number): string =>
      new Date(time - new Date(time).getTimezoneOffset() * 60_000).toISOString().slice(0, 16);
    [from, to] = [local(clock.now - 3_600_000), local(clock.now)];
    problem = null;
    isAskingSpan = true;
  }

  onMount(() => {
    void look();
    const looks = setInterval(() => void look(), LOOK_MS);
    return () => clearInterval(looks);
  });
  const states = { 'under way': 'under way', delivered: 'delivered', refused: 'not taken' };
</script>

<section aria-label="Packets" class="flex flex-col gap-2">
  <div class="flex items-baseline gap-3">
    <h2>Packets</h2>
    <span class="text-[12.5px] text-soft">the newest thousand are kept</span>
    {#if maySend}<button class="button ml-auto" onclick={begin}>Send a span of history…</button>{/if}
  </div>
  {#if problem && !isAskingSpan}<p role="alert" class="text-alarm">{problem}</p>{/if}
  {#if said}<p role="status">{said}</p>{/if}
  {#if packets.length === 0}
    <p class="text-soft">Nothing has gone out yet.</p>
  {:else}
    <table class="panel w-full text-[13px]" data-testid="packets">
      <thead class="text-left text-[12px] text-soft">
        <tr class="border-b border-rule [&_th]:px-3 [&_th]:py-1.5 [&_th]:font-normal">
          <th>Packet</th><th>Went out</th><th class="text-right">Values</th><th class="text-right">Octets</th><th
            class="text-right">Tries</th
          ><th>Answer</th><th></th>
        </tr>
      </thead>
      <tbody class="[&_td]:border-t [&_td]:border-rule/70 [&_td]:px-3 [&_td]:py-1.5 [&_td]:align-top">
        {#each packets as one (one.packet)}
          <tr>
            <td
              ><button
                class="mono cursor-pointer text-accent underline"
                aria-expanded={open === one.packet}
                onclick={() => void show(one.packet)}>{one.packet}</button
              ></td
            >
            <td title={fullTime(one.first)}
              >{clockTime(one.first, clock.now)}{one.tries > 1 ? `, last ${clockTime(one.last, clock.now)}` : ''}</td
            >
            <td class="text-right">{one.records}</td>
            <td class="text-right">{one.octets}</td>
            <td class="text-right">{one.tries}</td>
            <td class={one.state === 'refused' ? 'text-questionable' : ''}
              >{states[one.state]}{one.words === '' ? '' : `: ${one.words}`}</td
            >
            <td class="text-right"
              >{#if maySend && one.state === 'delivered'}<button
                  class="button"
                  aria-label="Send packet {one.packet} again"
                  onclick={() => void again(one.packet)}>Send again</button
                >{/if}</td
            >
          </tr>
          {#if open === one.packet}
            <tr data-testid="packet-content">
              <td colspan="7">
                {#if content === null}<span class="text-soft">…</span>{/if}
                {#each content ?? [] as { to: where, octets, text, isCut }, n (n)}
                  <p class="mb-1 text-[12px] text-soft">
                    {where === '' ? 'Content' : where}, {octets}
                    {octets === 1 ? 'octet' : 'octets'}{isCut ? ', of which the beginning is shown' : ''}
                  </p>
                  <pre
                    class="mono mb-2 max-h-[240px] overflow-auto rounded bg-ground p-2 text-[12px] break-all whitespace-pre-wrap">{text}</pre>
                {/each}
              </td>
            </tr>
          {/if}
        {/each}
      </tbody>
    </table>
    {#if hasMore}<p><button class="button" onclick={() => void more()}>Older packets</button></p>{/if}
  {/if}
</section>

{#if isAskingSpan}
  <Sheet
    title="Send a span of history to {centre}"
    about="All that history has of the mapped points goes once more, with its own times and new ids, behind what waits already."
    close={() => (isAskingSpan = false)}
  >
    <div class="flex gap-3">
      <label class="flex flex-col gap-1"
        ><span class="text-soft">From</span><input class="field" type="datetime-local" bind:value={from} /></label
      >
      <label class="flex flex-col gap-1"
        ><span class="text-soft">To</span><input class="field" type="datetime-local" bind:value={to} /></label
      >
    </div>
    {#if problem}<p role="alert" class="text-alarm">{problem}</p>{/if}
    <div class="flex justify-end gap-2">
      <button class="button" onclick={() => (isAskingSpan = false)}>Leave it</button>
      <button class="button first" onclick={() => void span()}>Send it</button>
    </div>
  </Sheet>
{/if}
