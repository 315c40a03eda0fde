<script lang="ts">
  import { KIND_WORDS } from '@halvix/core/point';
  import { enhance } from '$app/forms';

  let { data, form } = $props();
  const mayChange = $derived(data.person.role === 'engineer');
  const { size } = $derived(data);

  function octets(count: number): string {
    const units = ['B', 'kB', 'MB', 'GB', 'TB'];
    let at = 0;
    let value = count;
    for (; value >= 1000 && at < units.length - 1; at++) value /= 1000;
    return `${value >= 100 || at === 0 ? Math.round(value) : value.toFixed(1)} ${units[at]}`;
  }
  /** Whole days, the newest last; today goes on. */
  const whole = $derived(size.days.filter(({ octets }) => octets > 100_000).slice(0, -1));
  const growth = $derived(
    whole.length > 0 ? whole.slice(-7).reduce((sum, { octets }) => sum + octets, 0) / Math.min(7, whole.length) : null,
  );
  const shown = $derived(size.days.filter(({ octets }) => octets > 100_000).slice(-120));
  const most = $derived(Math.max(1, ...size.days.map(({ octets }) => octets)));
  const longest = $derived(Math.max(...data.kept.map(({ readingsDays }) => readingsDays)));
</script>

<svelte:head><title>History kept · Halvix</title></svelte:head>

<div class="flex max-w-5xl flex-col gap-6 p-5">
  <h1>History kept</h1>
  <p>
    Readings take <b>{octets(size.readings)}</b>, their statistics <b>{octets(size.statistics)}</b>, the whole database
    <b>{octets(size.database)}</b>.
    {#if growth !== null}A day adds {octets(growth)}: {octets(growth * longest)} in the {longest} days that are kept.
    {:else}How much a day adds is known after the first whole day.{/if}
    {#if size.openHours > 0}{size.openHours} {size.openHours === 1 ? 'hour waits' : 'hours wait'} for statistics.{/if}
    {#if size.otherDays > 100_000}Readings of days without a place of their own: {octets(size.otherDays)}.{/if}
  </p>
  {#if whole.length > 1}
    <div class="flex h-24 items-end gap-px" role="img" aria-label="What each day takes">
      {#each shown as { day, octets: of } (day)}
        <div
          class="max-w-3 min-w-1 grow bg-soft"
          style:height="{Math.max(1, (of / most) * 100)}%"
          title="{day}: {octets(of)}"
        ></div>
      {/each}
    </div>
    <p class="text-soft">{shown[0].day} to {shown.at(-1)?.day}, a column a day</p>
  {/if}
  <section class="flex flex-col gap-2">
    <h2>How long</h2>
    <p class="text-soft">
      Each reading stands by itself for as long as the first column says; after that the least, greatest and mean value
      of each minute and hour, and how long it was bad. Controls and revisions are kept for good.
    </p>
    {#if form?.problem}<p role="alert" class="text-alarm">{form.problem}</p>{/if}
    <table class="plain-table">
      <thead><tr><th>Kind</th><th>Readings, days</th><th>Statistics, days</th><th></th></tr></thead>
      <tbody>
        {#each data.kept as { kind, readingsDays, statisticsDays } (kind)}
          <tr data-testid="kept-{kind}">
            <td>{KIND_WORDS[kind].many}</td>
            <td>
              <input
                class="field mono w-28"
                name="readingsDays"
                form="kept-{kind}"
                inputmode="numeric"
                value={readingsDays}
                disabled={!mayChange}
                aria-label="Readings of {KIND_WORDS[kind].many}, days"
              />
            </td>
            <td>
              <input
                class="field mono w-28"
                name="statisticsDays"
                form="kept-{kind}"
                inputmode="numeric"
                value={statisticsDays}
                disabled={!mayChange}
                aria-label="Statistics of {KIND_WORDS[kind].many}, days"
              />
            </td>
            <td>
              <form
                id="kept-{kind}"
                method="POST"
                use:enhance={() =>
                  ({ update }) =>
                    update({ reset: false })}
              >
                <input type="hidden" name="kind" value={kind} />
                {#if mayChange}<button class="button">Save</button>{/if}
                {#if form?.done === kind}<span role="status" class="text-soft">saved</span>{/if}
              </form>
            </td>
          </tr>
        {/each}
      </tbody>
    </table>
  </section>
</div>
