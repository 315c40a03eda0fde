<script lang="ts">
  import { enhance } from '$app/forms';
  import { clock } from '$lib/clock.svelte.ts';
  import { clockTime } from '$lib/format.ts';

  let { data, form } = $props();
  const ROLES = ['viewer', 'operator', 'engineer'] as const;
  /** The account whose name or password is being changed. */
  let open = $state<{ id: number; what: 'rename' | 'reset' } | null>(null);
  $effect(() => {
    if (form && 'done' in form) open = null;
  });
</script>

<svelte:head><title>Accounts · Halvix</title></svelte:head>

<div class="flex max-w-5xl flex-col gap-5 p-5">
  <h1>Accounts</h1>
  {#if form && 'problem' in form}<p role="alert" class="text-alarm">{form.problem}</p>{/if}
  {#if form && 'done' in form}<p role="status">{form.done}</p>{/if}
  <table class="plain-table">
    <thead><tr><th>Name</th><th>Role</th><th>Since</th><th>Sessions</th><th></th></tr></thead>
    <tbody>
      {#each data.accounts as account (account.id)}
        <tr class:text-soft={account.disabled} data-testid="account-{account.name}">
          <td
            >{account.name}{#if account.disabled}<span class="text-soft"> · disabled</span>{/if}</td
          >
          <td>
            <form method="POST" action="?/role" use:enhance class="flex gap-1">
              <input type="hidden" name="id" value={account.id} />
              <select
                class="field"
                name="role"
                value={account.role}
                aria-label="Role of {account.name}"
                onchange={(e) => e.currentTarget.form?.requestSubmit()}
              >
                {#each ROLES as one (one)}<option value={one}>{one}</option>{/each}
              </select>
            </form>
          </td>
          <td class="mono">{clockTime(account.created, clock.now, 0)}</td>
          <td>{account.sessions}</td>
          <td>
            <div class="flex flex-wrap items-end gap-2">
              {#if open?.id === account.id}
                <form method="POST" action="?/{open.what}" use:enhance class="flex flex-wrap items-end gap-2">
                  <input type="hidden" name="id" value={account.id} />
                  {#if open.what === 'rename'}
                    <label class="flex flex-col"
                      >New name<input class="field" name="name" value={account.name} required maxlength="64" /></label
                    >
                  {:else}
                    <input type="hidden" name="name" value={account.name} />
                    <label class="flex flex-col"
                      >New password, at least 12 characters<input
                        class="field"
                        type="password"
                        name="password"
                        autocomplete="new-password"
                        required
                        maxlength="256"
                      /></label
                    >
                  {/if}
                  <button class="button first">{open.what === 'rename' ? 'Rename' : 'Set it'}</button>
                  <button class="button" type="button" onclick={() => (open = null)}>Not now</button>
                </form>
              {:else}
                <button class="button" onclick={() => (open = { id: account.id, what: 'rename' })}>Rename</button>
                <button class="button" onclick={() => (open = { id: account.id, what: 'reset' })}>New password</button>
                <form method="POST" action="?/disable" use:enhance>
                  <input type="hidden" name="id" value={account.id} />
                  <input type="hidden" name="disabled" value={account.disabled ? 'no' : 'yes'} />
                  <button class="button">{account.disabled ? 'Enable' : 'Disable'}</button>
                </form>
                {#if account.sessions > 0}
                  <form method="POST" action="?/end" use:enhance>
                    <input type="hidden" name="id" value={account.id} /><button class="button">End sessions</button>
                  </form>
                {/if}
              {/if}
            </div>
          </td>
        </tr>
      {/each}
    </tbody>
  </table>
  <section class="flex flex-col gap-2">
    <h2>Add an account</h2>
    <form method="POST" action="?/add" use:enhance class="flex flex-wrap items-end gap-3">
      <label class="flex flex-col gap-1"
        >Name<input
          class="field"
          name="name"
          autocomplete="off"
          required
          maxlength="64"
          value={form && 'name' in form ? form.name : undefined}
        /></label
      >
      <label class="flex flex-col gap-1"
        >Role<select class="field" name="role"
          >{#each ROLES as one (one)}<option value={one}>{one}</option>{/each}</select
        ></label
      >
      <label class="flex flex-col gap-1"
        >Password, at least 12 characters<input
          class="field"
          type="password"
          name="password"
          autocomplete="new-password"
          required
          maxlength="256"
        /></label
      >
      <button class="button first">Add</button>
    </form>
  </section>
</div>
