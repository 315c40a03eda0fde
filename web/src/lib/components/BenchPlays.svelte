<script lang="ts">
  import type { Play } from '@halvix/core/playing';
  import { isControl, type PointKind } from '@halvix/core/point';
  import PlayDialog from './PlayDialog.svelte';

  /** Values of a stand-in that play. */
  interface Point {
    kind: PointKind;
    index: number;
    name: string;
    value: number;
    text?: string;
    plays?: string;
  }
  interface Props {
    code: string;
    name: string;
    ask: <Answer>(
      method: string,
      path: string,
      body?: unknown,
    ) => Promise<{ ok: true; value: Answer } | { ok: false; words: string }>;
    close: () => void;
  }
  let { code, name, ask, close }: Props = $props();

  async function look(): Promise<(Point & { key: string })[] | string> {
    const answer = await ask<Point[]>('GET', `/devices/${code}/points`);
    if (!answer.ok) return answer.words;
    return answer.value
      .filter(({ kind, text }) => text === undefined && !isControl(kind))
      .map((point) => ({ ...point, key: `${point.kind}/${point.index}` }));
  }
  const done = async (method: string, path: string, body?: unknown): Promise<string | null> => {
    const answer = await ask(method, `/devices/${code}/points/${path}`, body);
    return answer.ok ? null : answer.words;
  };
</script>

<PlayDialog
  title="Values of {code} that play"
  about="{name} says them as its own, in counts as on its wire; where its protocol can say so they arrive as forced at the device."
  {look}
  play={(key: string, play: Play) => done('PUT', `${key}/play`, play)}
  end={(key: string) => done('DELETE', key)}
  {close}
/>
