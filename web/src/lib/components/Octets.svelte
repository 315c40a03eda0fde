<script lang="ts">
  import type { Trail } from '@halvix/core/path';

  /** The frames that carried a reading, sixteen octets a line as the checksums fall, the reading's own ones marked. */
  let { frames }: { frames: NonNullable<Trail['frames']> } = $props();

  interface Octet {
    text: string;
    marked: boolean;
    quiet: boolean;
  }

  /** Header of ten octets, then blocks of sixteen with two of checksum after each. */
  function lines({ octets, marked }: NonNullable<Trail['frames']>[number]): Octet[][] {
    const all = octets.split(' ');
    const own = new Set(marked);
    const result: Octet[][] = [];
    for (let at = 0, size = 10; at < all.length; at += size, size = 18) {
      const end = Math.min(all.length, at + size);
      result.push(
        all.slice(at, end).map((text, i) => ({ text, marked: own.has(at + i), quiet: at === 0 || at + i >= end - 2 })),
      );
    }
    return result;
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
