<script lang="ts">
  import type { Play } from '@halvix/core/playing';
  import { isControl } from '@halvix/core/point';
  import { messageOf, post } from '$lib/ask.ts';
  import { live } from '$lib/live/live.svelte.ts';
  import type { PointView } from '$lib/server/points.ts';
  import PlayDialog from './PlayDialog.svelte';

  /** Values of a device on test that are made up. */
  interface Props {
    code: string;
    points: readonly PointView[];
    /** The latest value of a point by its number, in its unit. */
    valueOf: (id: number) => number | null;
    passOn: boolean;
    close: () => void;
  }
  let { code, points, valueOf, passOn, close }: Props = $props();

  const words = async (answer: Response | null): Promise<string | null> =>
    answer === null ? 'The server cannot be reached.' : answer.ok ? null : await messageOf(answer);
  async function play(key: string, wanted: Play): Promise<string | null> {
    const request = { type: 'play', device: code, point: key, play: wanted };
    return words(await post('/api/probes', { id: crypto.randomUUID(), request }).catch(() => null));
  }
  async function end(key: string): Promise<string | null> {
    const one = live.hops.devices[code]?.playing.find(({ point }) => point === key);
    if (one === undefined) return null;
    const headers = { 'content-type': 'application/json' };
    const body = JSON.stringify({ id: one.id });
    return words(await fetch('/api/probes', { method: 'DELETE', headers, body }).catch(() => null));
  }
  const look = async (): Promise<
    { key: string; kind: PointView['kind']; name: string; value: number | null; plays?: string }[]
  > => {
    const playing = new Map((live.hops.devices[code]?.playing ?? []).map((one) => [one.point, one]));
    return points
      .filter(({ kind }) => !isControl(kind) && kind !== 'text')
      .map(({ id, address, kind, name }) => {
        const one = playing.get(address);
        const shown = one ? { plays: one.by ? `${one.words}, by ${one.by}` : one.words } : {};
        return { key: address, kind, name, value: valueOf(id), ...shown };
      });
  };
</script>

<PlayDialog
  title="Values of {code} that play"
  about="In the place of its own while it is on test, in their units; marked as forced here and as test wherever they go{passOn
    ? ', centres included'
    : '; centres do not get them'}."
  {look}
  {play}
  {end}
  {close}
/>
