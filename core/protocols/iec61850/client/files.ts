import { concat } from '../../../bytes/index.ts';
import type { Instant } from '../../../session/index.ts';
import type { FileOrder, OrderAnswer } from '../../client.ts';
import type { Answer, MmsClient } from '../../mms/client.ts';
import type { FileAttributes, ServiceName } from '../../mms/wire/services.ts';

/*
 * One question about the files of a device (ISO 9506-2, annex C; IEC 61850-8-1, clause 23). A file is opened, read piece
 * by piece, and closed whatever came of it.
 */

/** A file may be so large. */
const MOST_OCTETS = 64 << 20;
const MOST_ENTRIES = 10_000;

export interface FileEvents {
  progress: (octets: number) => void;
  done: (problem: string | null, answer: OrderAnswer) => void;
}

export function askFile(client: MmsClient, order: FileOrder, events: FileEvents, now: Instant): void {
  switch (order.what) {
    case 'directory':
      return directory(client, order.name, events, now);
    case 'readFile':
      return readFile(client, order.name, events, now);
    case 'deleteFile':
      return client.ask('fileDelete', { name: order.name }, (answer) => events.done(problemOf(answer), {}), now);
    default:
      return order.what satisfies never;
  }
}

const problemOf = (answer: Answer<ServiceName>): string | null => (answer.ok ? null : answer.words);

type Entry = NonNullable<OrderAnswer['directory']>[number];

function directory(client: MmsClient, name: string, events: FileEvents, now: Instant, before: Entry[] = []): void {
  const after = before.at(-1)?.name ?? '';
  client.ask(
    'fileDirectory',
    { name, after },
    (answer, at) => {
      if (!answer.ok) return events.done(answer.words, {});
      const { entries, more } = answer.response;
      const all = [...before, ...entries.map(({ name: one, attributes }) => entryOf(one, attributes))];
      if (more && entries.length > 0 && all.length < MOST_ENTRIES) directory(client, name, events, at, all);
      else events.done(null, { directory: all });
    },
    now,
  );
}

/** Names of directories end with a stroke, one way or the other (common practice). */
const entryOf = (name: string, { size, modified }: FileAttributes): Entry => ({
  ...{ name, isDirectory: /[/\\]$/.test(name), size },
  time: timeOf(modified),
});

/** `20261127053000.125Z` as an instant; 0: it is not said. */
export function timeOf(text: string): Instant {
  const [, year, month, day, hour, minute, second, fraction = '0'] =
    /^(\d{4})(\d\d)(\d\d)(\d\d)(\d\d)(\d\d)(?:[.,](\d{1,6}))?Z?$/.exec(text) ?? [];
  if (year === undefined) return 0;
  const whole = Date.UTC(Number(year), Number(month) - 1, Number(day), Number(hour), Number(minute), Number(second));
  return whole + Math.floor(Number(`0.${fraction}`) * 1000);
}

function readFile(client: MmsClient, name: string, events: FileEvents, now: Instant): void {
  client.ask(
    'fileOpen',
    { name, from: 0 },
    (answer, at) => {
      if (!answer.ok) return events.done(answer.words, {});
      const { handle, attributes } = answer.response;
      if (attributes.size > MOST_OCTETS) {
        const words = `the file has ${attributes.size} octets, more than ${MOST_OCTETS}`;
        return close(client, handle, at, () => events.done(words, {}));
      }
      readOn(client, handle, [], 0, events, at);
    },
    now,
  );
}

function readOn(
  client: MmsClient,
  handle: number,
  parts: readonly Uint8Array[],
  octets: number,
  events: FileEvents,
  now: Instant,
): void {
  client.ask(
    'fileRead',
    { handle },
    (answer, at) => {
      const end = (problem: string | null, found: OrderAnswer): void =>
        close(client, handle, at, () => events.done(problem, found));
      if (!answer.ok) return end(answer.words, {});
      const { data, more } = answer.response;
      const all = [...parts, data];
      const count = octets + data.length;
      events.progress(count);
      if (count > MOST_OCTETS) end(`the file has more than ${MOST_OCTETS} octets`, {});
      else if (more && data.length > 0) readOn(client, handle, all, count, events, at);
      else end(more ? 'the device says that more follows and sends nothing' : null, more ? {} : { file: concat(all) });
    },
    now,
  );
}

/** What the device says to that changes nothing any more. */
function close(client: MmsClient, handle: number, now: Instant, done: () => void): void {
  client.ask('fileClose', { handle }, () => done(), now);
}
