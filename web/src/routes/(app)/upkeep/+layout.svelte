<script lang="ts">
  import { page } from '$app/state';

  let { data, children } = $props();
  const PAGES = [
    { href: '/upkeep', title: 'Your account', engineer: false },
    { href: '/upkeep/accounts', title: 'Accounts', engineer: true },
    { href: '/upkeep/security', title: 'Security log', engineer: true },
    { href: '/upkeep/history', title: 'History kept', engineer: false },
  ];
  const pages = $derived(PAGES.filter(({ engineer }) => !engineer || data.person.role === 'engineer'));
</script>

<nav class="flex flex-wrap gap-x-4 border-b border-rule px-5 pt-1" aria-label="Upkeep">
  {#each pages as { href, title } (href)}
    {@const isHere = page.url.pathname === href}
    <a
      {href}
      class="plain flex h-9 items-center border-b-2 {isHere ? 'border-accent' : 'border-transparent text-soft'}"
      aria-current={isHere ? 'page' : undefined}>{title}</a
    >
  {/each}
</nav>
{@render children()}
