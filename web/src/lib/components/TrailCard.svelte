<script lang="ts">
  import type { Snippet } from 'svelte';

  let { title, note = '', children }: { title: string; note?: string; children: Snippet } = $props();
</script>

<section class="panel min-w-0 p-3" aria-label={title}>
  <div class="mb-2 flex items-baseline justify-between gap-2">
    <h2>{title}</h2>
    <span class="mono text-soft">{note}</span>
  </div>
  {@render children()}
</section>
