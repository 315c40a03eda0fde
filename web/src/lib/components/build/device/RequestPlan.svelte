<script lang="ts">
  import { bitsPerOctet, type DeviceObject, type DraftPoint } from '@halvix/core/config';
  import { octetMs } from '@halvix/core/line';
  import { type RequestPlan, deviceOf } from '@halvix/core/protocols';
  import type { LinkObject } from '$lib/build/devices.ts';

  /** Which requests bring a device's list, and what they take on its line. */
  let { device, link, points }: { device: DeviceObject; link: LinkObject; points: readonly DraftPoint[] } = $props();

  const octet = $derived(octetMs({ ...link.line, bitsPerOctet: bitsPerOctet(link) }));
  const plan = $derived<RequestPlan | null>(
    deviceOf(device.protocol).requests?.(points, device.settings, {
      framing: link.framing,
      octetMs: octet,
    }) ?? null,
  );
  const sum = (numbers: readonly number[]): number => numbers.reduce((total, one) => total + one, 0);
  const rounds = $derived(
    (plan?.rounds ?? []).map(({ what, everyMs, requests }) => {
      const octets = sum(requests.map((one) => one.octets));
      return { what, everyMs, requests, octets, lineMs: octets * octet };
    }),
  );
  /** The part of the line's time that the device takes. */
  const share = $derived(sum(rounds.map(({ everyMs, lineMs }) => (everyMs > 0 ? lineMs / everyMs : 0))));
  const MOST_SHOWN = 40;
  const every = (ms: number): string => (ms === 0 ? 'once for each connection' : `every ${ms / 1000} s`);
  const count = (n: number, one: string): string => `${n} ${n === 1 ? one : `${one}s`}`;
</script>

{#if plan !== null}
  <section class="panel p-4" aria-label="What is asked" data-testid="request-plan">
    <h2 class="mb-1">What is asked</h2>
    {#if rounds.length === 0}<p class="text-soft">Its list is empty: nothing is asked.</p>{/if}
    {#each rounds as { what, everyMs, requests, octets, lineMs } (what)}
      <h3 class="mt-2 text-[13px] font-medium">
        {what}, {every(everyMs)}: {count(requests.length, 'request')},
        <span class="mono font-normal">{octets}</span> octets{#if octet > 0},
          <span class="mono font-normal">{Math.round(lineMs)}</span> ms of the line{/if}
      </h3>
      <table class="w-full text-[13px]">
        <tbody>
          {#each requests.slice(0, MOST_SHOWN) as request (request.words)}
            <tr class="border-t border-rule align-top">
              <td class="py-0.5 pr-2">{request.words}</td>
              <td class="py-0.5 pr-2 text-right whitespace-nowrap text-soft">{count(request.points, 'point')}</td>
              <td class="mono py-0.5 text-right whitespace-nowrap text-soft" title="Asked for, of what is read"
                >{request.wanted} of {request.read}</td
              >
            </tr>
          {/each}
        </tbody>
      </table>
      {#if requests.length > MOST_SHOWN}<p class="text-soft">and {requests.length - MOST_SHOWN} more</p>{/if}
    {/each}
    {#if octet > 0 && rounds.length > 0}
      <p class="mt-2 text-[13px]" class:text-questionable={share > 0.8}>
        It takes {Math.round(share * 1000) / 10} % of the line's time.
      </p>
    {/if}
  </section>
{/if}
