<script lang="ts">
  import { enhance } from '$app/forms';
  import { clock } from '$lib/clock.svelte.ts';
  import { age, clockTime } from '$lib/format.ts';

  let { data, form } = $props();
  const ROLES = {
    viewer: 'sees everything, changes nothing',
    operator: 'operates as well',
    engineer: 'may do everything',
  } as const;
</script>

<svelte:head><title>Your account · Halvix</title></svelte:head>

<div class="flex max-w-4xl flex-col gap-6 p-5">
  <div class="flex flex-wrap items-baseline gap-3">
    <h1>{data.person.name}</h1>
    <span class="text-soft">{data.person.role}: {ROLES[data.person.role]}</span>
  </div>
  {#if data.person.mustChange}
    <p role="note" class="max-w-prose">
      Somebody else set your password. Set one that only you know: everything else is open then.
    </p>
  {/if}
  {#if form?.problem}<p role="alert" class="text-alarm">{form.problem}</p>{/if}
  {#if form?.done}<p role="status">{form.done}</p>{/if}

  <section class="flex flex-col gap-2">
    <h2>Change the password</h2>
    <form method="POST" action="?/password" use:enhance class="flex flex-wrap items-end gap-3">
      <label class="flex flex-col gap-1"
        >Old password<input
          class="field"
          type="password"
          name="old"
          autocomplete="current-password"
          required
          maxlength="256"
        /></label
      >
      <label class="flex flex-col gap-1"
        >New password, at least 12 characters<input
          class="field"
          type="password"
          name="next"
          autocomplete="new-password"
          required
          maxlength="256"
        /></label
      >
      <label class="flex flex-col gap-1"
        >New password again<input
          class="field"
          type="password"
          name="again"
          autocomplete="new-password"
          required
          maxlength="256"
        /></label
      >
      <button class="button first">Change it</button>
    </form>
  </section>

  <section class="flex flex-col gap-2">
    <h2>Where you are signed in</h2>
    <table class="plain-table">
      <thead><tr><th>From</th><th>With</th><th>Since</th><th>Last used</th><th></th></tr></thead>
      <tbody>
        {#each data.sessions as session (session.label)}
          <tr>
            <td class="mono">{session.address || '–'}</td>
            <td class="max-w-72 truncate" title={session.agent}>{session.agent || '–'}</td>
            <td class="mono">{clockTime(session.created, clock.now, 0)}</td>
            <td>{session.seen === null ? '–' : `${age(clock.now - session.seen)} ago`}</td>
            <td>
              {#if session.isThis}<span class="text-soft">this one</span>
              {:else}
                <form method="POST" action="?/end" use:enhance>
                  <input type="hidden" name="label" value={session.label} /><button class="button">End it</button>
                </form>
              {/if}
            </td>
          </tr>
        {/each}
      </tbody>
    </table>
  </section>
</div>
