import { definitionOf, type Described, type ProtocolCode } from '@halvix/core/protocols';

/** Reads a file that describes devices beside the page, piece by piece: one of any size leaves the screen alive. */
export interface DescribeJob {
  protocol: ProtocolCode;
  file: File;
}
export type DescribeNews =
  { type: 'progress'; octets: number } | { type: 'done'; described: Described } | { type: 'failed'; words: string };

const say = (news: DescribeNews): void => self.postMessage(news);
/** How often the page is told how far it is. */
const EVERY_OCTETS = 1 << 20;

self.onmessage = ({ data }: MessageEvent<DescribeJob>): void => {
  read(data).catch((error: unknown) =>
    say({ type: 'failed', words: error instanceof Error ? error.message : 'it cannot be read' }),
  );
};

async function read({ protocol, file }: DescribeJob): Promise<void> {
  const reader = await definitionOf(protocol).descriptions?.reader();
  if (!reader) throw new Error('there are no such files for this protocol');
  const stream = file.stream().getReader();
  const text = new TextDecoder();
  let [octets, told] = [0, 0];
  for (;;) {
    const { done, value } = await stream.read();
    if (done) break;
    octets += value.length;
    reader.push(text.decode(value, { stream: true }));
    if (octets - told < EVERY_OCTETS) continue;
    told = octets;
    say({ type: 'progress', octets });
  }
  reader.push(text.decode());
  say({ type: 'done', described: reader.end() });
}
