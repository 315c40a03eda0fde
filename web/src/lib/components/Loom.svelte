<script lang="ts">
  import { definitionOf } from '@halvix/core/protocols';
  import { clock } from '../clock.svelte.ts';
  import { live } from '../live/live.svelte.ts';
  import { devicePath, engineHop, isOnLink, outboundHop, type DeviceOnPath, type OutboundOnPath } from '../path.ts';
  import { dash, STROKE } from '../strokes.ts';

  /** The board: each device a thread from the left, the engine a bar, the centres on the right. */
  let { devices: all, outbounds }: { devices: DeviceOnPath[]; outbounds: OutboundOnPath[] } = $props();
  const devices = $derived(all.filter(isOnLink));

  const ROW = 46;
  const TOP = 44;
  /** Characters of a name before its age is in the way. */
  const MOST_OF_NAME = 18;
  const X = { name: 0, thread: 212, link: 330, engine: 562, outbound: 760, centre: 778 };

  const rows = $derived(
    devices.map((device, i) => ({
      device,
      y: TOP + i * ROW + (devices.length === 1 ? 30 : 0),
      first: i === 0 || devices[i - 1].station !== device.station,
      path: devicePath(device, [], live.hops, clock.now),
    })),
  );
  const links = $derived(
    [...new Set(devices.map((d) => d.link.code))].map((code) => {
      const own = rows.filter(({ device }) => device.link.code === code);
      return {
        link: own[0].device.link,
        y: own.reduce((sum, { y }) => sum + y, 0) / own.length,
        hop: own[0].path.link,
        rows: own,
      };
    }),
  );
  const engine = $derived(engineHop(live.hops, clock.now));
  const standbys = $derived(live.hops.standbys ?? []);
  const height = $derived(Math.max(TOP + rows.length * ROW, TOP + outbounds.length * 76, 190));
  const outboundY = (i: number): number =>
    outbounds.length === 1 ? TOP + 30 : TOP + 14 + (i * (height - TOP - 40)) / (outbounds.length - 1);

  const wayTo = ({ name, protocol, way }: (typeof outbounds)[number]): string =>
    `${name} · ${definitionOf(protocol).words.name} · ${way}`;
  /** Between the engine and the centres there is room for so many characters. */
  const MOST_CHARACTERS = 31;
  const shortened = (text: string): string =>
    text.length <= MOST_CHARACTERS ? text : `${text.slice(0, MOST_CHARACTERS - 1)}…`;
</script>

<div class="hidden overflow-x-auto md:block">
  <svg
    viewBox="0 0 1024 {height + 26}"
    class="w-full min-w-[760px] max-w-[1500px]"
    fill="none"
    role="group"
    aria-label="Devices, links, engine and centres"
  >
    <g font-size="12" fill="var(--soft)">
      <text x={X.name} y="14">Field</text><text x={X.link} y="14">Links</text>
      <text x={X.engine} y="14">Engine</text><text x="674" y="14">Outbounds</text><text x={X.centre - 4} y="14"
        >Centres</text
      >
    </g>
    {#if standbys.length > 0}<text x={X.engine} y="28" font-size="12" fill="var(--soft)" data-testid="standby"
        >{standbys.join(', ')} {standbys.length === 1 ? 'stands' : 'stand'} by</text
      >{/if}
    {#each links as { link, y, hop } (link.code)}
      {#if hop.state === 'lost'}
        <path d="M{X.link} {y}H{X.link + 108}M{X.link + 132} {y}H{X.engine}" stroke="var(--lost)" stroke-width="3" />
        <path
          d="M{X.link + 112} {y - 7}l6 14M{X.link + 121} {y - 7}l6 14"
          stroke="var(--lost)"
          stroke-width="2"
          data-break="link"
        />
      {:else}
        <path
          d="M{X.link} {y}H{X.engine}"
          stroke={STROKE[hop.state]}
          stroke-width="3"
          stroke-dasharray={dash(hop.state)}
        />
      {/if}
      <text x={X.link + 14} y={y - 9} font-size="12" fill="var(--soft)">{link.name} · {link.endpoint}</text>
      <text
        x={X.link + 14}
        y={y + 18}
        font-size="11.5"
        class="mono"
        fill={hop.state === 'lost' ? 'var(--lost)' : 'var(--soft)'}
        data-testid="link-{link.code}"
      >
        {#each hop.words.split('; ') as line, i (i)}<tspan x={X.link + 14} dy={i === 0 ? 0 : 15}>{line}</tspan>{/each}
      </text>
    {/each}
    {#each rows as { device, y, first, path } (device.code)}
      {@const linkY = links.find(({ link }) => link.code === device.link.code)?.y ?? y}
      <a href="/run/device/{device.code}" class="plain">
        {#if first}<text x={X.name} y={y + 4} font-size="12" class="mono" fill="var(--soft)">{device.station}</text
          >{/if}
        <text x={X.name + 36} y={y + 4} font-size="13.5" fill="var(--ink)"
          >{device.name.length > MOST_OF_NAME ? `${device.name.slice(0, MOST_OF_NAME - 1)}…` : device.name}<title
            >{device.name}</title
          ></text
        >
        <text
          x={X.thread - 12}
          y={y + 4}
          font-size="12"
          class="mono"
          text-anchor="end"
          fill={path.device.state === 'good' ? 'var(--ink)' : 'var(--lost)'}
        >
          {path.device.state === 'good' ? path.device.words : ''}
        </text>
        <circle cx={X.thread} cy={y} r="5" fill={STROKE[path.device.state]} />
        {#if path.device.state === 'lost'}
          <path d="M{X.thread} {y}h22" stroke="var(--lost)" stroke-width="2" />
          <path
            d="M{X.thread + 26} {y - 7}l6 14M{X.thread + 35} {y - 7}l6 14"
            stroke="var(--lost)"
            stroke-width="2"
            data-break="device"
          />
          <path
            d="M{X.thread + 44} {y}C{X.thread + 84} {y} {X.link - 36} {linkY} {X.link} {linkY}"
            stroke="var(--soft)"
            stroke-width="1.5"
          />
        {:else}
          <path
            d="M{X.thread} {y}h40C{X.thread + 84} {y} {X.link - 36} {linkY} {X.link} {linkY}"
            stroke={STROKE[path.device.state]}
            stroke-width="1.6"
            stroke-dasharray={dash(path.device.state)}
          />
        {/if}
        {#if path.device.state !== 'good'}
          <text
            x={X.name + 36}
            y={y + 20}
            font-size="11.5"
            fill={path.device.state === 'lost' ? 'var(--lost)' : 'var(--soft)'}>{path.device.words}</text
          >
        {/if}
      </a>
    {/each}
    <rect
      x={X.engine}
      y={TOP - 18}
      width="11"
      height={height - TOP + 20}
      rx="4"
      fill={engine.state === 'good' ? 'var(--ink)' : 'var(--ground)'}
      stroke={STROKE[engine.state]}
      stroke-dasharray={engine.state === 'good' ? undefined : '3 3'}
    />
    <text
      x={X.engine + 5}
      y={height + 20}
      text-anchor="middle"
      font-size="12"
      fill={engine.state === 'good' ? 'var(--soft)' : 'var(--lost)'}>{engine.words}</text
    >
    {#each outbounds as outbound, i (outbound.code)}
      {@const y = outboundY(i)}
      {@const hop = outboundHop(live.hops, outbound.code, engine, clock.now)}
      <a href="/run/outbound/{outbound.code}" class="plain">
        <path
          d="M{X.engine + 11} {y}H{X.outbound}"
          stroke={STROKE[hop.state]}
          stroke-width="2"
          stroke-dasharray={dash(hop.state)}
        />
        <text x={X.outbound - 14} y={y - 8} text-anchor="end" font-size="12" fill="var(--soft)"
          >{shortened(wayTo(outbound))}<title>{wayTo(outbound)}</title></text
        >
        <circle
          cx={X.outbound}
          cy={y}
          r="5"
          fill={hop.state === 'good' ? 'var(--ink)' : 'var(--ground)'}
          stroke={STROKE[hop.state]}
          stroke-width="1.6"
        />
        <text x={X.centre} y={y + 2} font-size="14.5" font-weight="600" fill="var(--ink)">{outbound.centre}</text>
        <text
          x={X.centre}
          y={y + 19}
          font-size="11.5"
          class="mono"
          fill={hop.state === 'lost' ? 'var(--lost)' : 'var(--soft)'}
          data-testid="outbound-{outbound.code}">{hop.words}</text
        >
      </a>
    {/each}
  </svg>
</div>

<ul class="md:hidden">
  {#each rows as { device, path } (device.code)}
    <li class="border-b border-rule py-2">
      <a class="plain block" href="/run/device/{device.code}">
        <span class="mono text-soft">{device.station}</span>
        {device.name}
        <span class="block" class:text-lost={path.device.state === 'lost' || path.link.state === 'lost'}>
          {path.device.state === 'good'
            ? `answered ${path.device.words} ago`
            : path.link.state === 'lost'
              ? path.link.words
              : path.device.words}
        </span>
      </a>
    </li>
  {/each}
  {#each outbounds as outbound (outbound.code)}
    {@const hop = outboundHop(live.hops, outbound.code, engine, clock.now)}
    <li class="border-b border-rule py-2">
      <a class="plain block" href="/run/outbound/{outbound.code}"
        >▸ {outbound.centre} <span class="block text-soft">{hop.words}</span></a
      >
    </li>
  {/each}
</ul>
