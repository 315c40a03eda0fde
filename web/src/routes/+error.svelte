<script lang="ts">
  import { page } from '$app/state';
  import { onMount } from 'svelte';

  const RETRY_MS = 3000;
  const isServers = $derived(page.status >= 500);

  // What the server could not do it may be able to do in a moment: the database may be back.
  onMount(() => {
    if (!isServers) return;
    const timer = setInterval(() => {
      void fetch('/healthz')
        .then((answer) => answer.json())
        .then(({ database }: { database?: boolean }) => database === true && location.reload())
        .catch(() => {});
    }, RETRY_MS);
    return () => clearInterval(timer);
  });
</script>

<main class="mx-auto max-w-xl p-10">
  <h1>{page.status === 404 ? 'There is nothing here' : 'That did not work'}</h1>
  <p class="mt-2">{page.error?.message}</p>
  {#if isServers}<p class="mt-2" role="status">It is tried again by itself as soon as the database answers.</p>{/if}
  <p class="mt-4"><a class="word" href="/run">Back to the board</a></p>
</main>
