<script lang="ts">
  import Logo from '$lib/components/Logo.svelte';

  let { form } = $props();
</script>

<svelte:head><title>Sign in · Halvix</title></svelte:head>

<main class="mx-auto mt-[16vh] w-full max-w-sm p-6">
  <Logo />
  <h1 class="mt-6">Sign in</h1>
  <form method="POST" class="mt-4 flex flex-col gap-3">
    <label class="flex flex-col gap-1">
      Name
      <!-- svelte-ignore a11y_autofocus -->
      <input class="field" name="name" autocomplete="username" autofocus required maxlength="64" value={form?.name} />
    </label>
    <label class="flex flex-col gap-1">
      Password
      <input class="field" name="password" type="password" autocomplete="current-password" required maxlength="256" />
    </label>
    {#if form?.problem}<p role="alert" class="text-alarm">{form.problem}</p>{/if}
    <button class="button first justify-center">Sign in</button>
  </form>
</main>
