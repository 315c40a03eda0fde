<script lang="ts">
  import type { Trail } from '@halvix/core/path';

  /** The frames that carried a reading, line by line as they are made, the reading's own octets marked. */
  let { frames }: { frames: NonNullable<Trail['frames']> } = $props();

  interface Octet {
    text: string;
    marked: boolean;
    quiet: boolean;
  }

  const A_LINE = 16;
  function lines({ octets, marked, quiet, lines: begins }: NonNullable<Trail['frames']>[number]): Octet[][] {
    const all = octets.split(' ').map((text, at) => ({ text, marked: marked.includes(at), quiet: quiet.includes(at) }));
    const starts = begins.length > 0 ? begins : all.flatMap((_, at) => (at % A_LINE === 0 ? [at] : []));
    return starts.map((at, n) => all.slice(at, starts[n + 1]));
  }

  /** Long frames are cut down to the lines around the marked octets. */
  const MAX_LINES = 8;
  function around(all: Octet[][]): { lines: Octet[][]; before: number; after: number } {
    if (all.length <= MAX_LINES) return { lines: all, before: 0, after: 0 };
    const at = Math.max(0, all.findIndex((line) => line.some(({ marked }) => marked)) - 3);
    const from = Math.min(at, all.length - MAX_LINES);
    return { lines: all.slice(from, from + MAX_LINES), before: from, after: all.length - from - MAX_LINES };
  }
</script>

{#each frames as frame, i (i)}
  {@const cut = around(lines(frame))}
  <div class="mono leading-[1.7]" data-testid="octets">
    {#if cut.before > 0}<div class="text-soft">… {cut.before} lines before</div>{/if}
    {#each cut.lines as line, n (n)}
      <div class="flex flex-wrap gap-x-[5px]">
        {#each line as octet, k (k)}<span
            class:bg-mark={octet.marked}
            class:font-bold={octet.marked}
            class:text-soft={octet.quiet && !octet.marked}
            class="px-[1px]">{octet.text}</span
          >{/each}
      </div>
    {/each}
    {#if cut.after > 0}<div class="text-soft">… {cut.after} lines after</div>{/if}
  </div>
{/each}
