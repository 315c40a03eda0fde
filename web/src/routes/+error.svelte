<script lang="ts">
  import { page } from '$app/state';
</script>

<main class="mx-auto max-w-xl p-10">
  <h1>{page.status === 404 ? 'There is nothing here' : 'That did not work'}</h1>
  <p class="mt-2">{page.error?.message}</p>
  <p class="mt-4"><a class="word" href="/run">Back to the board</a></p>
</main>
