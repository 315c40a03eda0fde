<script lang="ts">
  import Logo from '$lib/components/Logo.svelte';

  let { form } = $props();
</script>

<svelte:head><title>First engineer · Halvix</title></svelte:head>

<main class="mx-auto mt-[12vh] w-full max-w-sm p-6">
  <Logo />
  <h1 class="mt-6">The first engineer</h1>
  <p class="mt-1 text-soft">Nobody can sign in here yet. This account may do everything.</p>
  <form method="POST" class="mt-4 flex flex-col gap-3">
    <label class="flex flex-col gap-1">
      Name
      <!-- svelte-ignore a11y_autofocus -->
      <input class="field" name="name" autocomplete="username" autofocus required maxlength="64" value={form?.name} />
    </label>
    <label class="flex flex-col gap-1">
      Secret, as printed by the start
      <input class="field mono" name="secret" autocomplete="off" required maxlength="200" />
    </label>
    <label class="flex flex-col gap-1">
      Password, at least 12 characters
      <input
        class="field"
        name="password"
        type="password"
        autocomplete="new-password"
        required
        minlength="12"
        maxlength="256"
      />
    </label>
    <label class="flex flex-col gap-1">
      Password again
      <input class="field" name="again" type="password" autocomplete="new-password" required maxlength="256" />
    </label>
    {#if form?.problem}<p role="alert" class="text-alarm">{form.problem}</p>{/if}
    <button class="button first justify-center">Make the account</button>
  </form>
</main>
