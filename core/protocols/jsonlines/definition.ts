import { NO_PLAN, NO_POINTS, type Definition } from '../definition.ts';
import { numberField, textField } from '../settingfield.ts';
import { PUBLISHING_COUNTERS } from '../publishing/publisher.ts';
import { lines } from './lines.ts';
import { settings, type LinesSettings } from './settings.ts';
import { address, targets, type LinesTargetAt } from './target.ts';

/** A file that grows by a line for each value: one JSON object each. Described in docs/formats.md. */
export const jsonlines: Definition<never, LinesSettings, never, never, LinesTargetAt, 'jsonlines'> = {
  code: 'jsonlines',
  words: { name: 'File of lines', us: 'writer', them: 'file' },
  framings: [],
  counters: {
    words: PUBLISHING_COUNTERS,
    device: [],
    outbound: ['values', 'packets', 'octets', 'failures'],
    trouble: ['failures', 'dropped'],
  },
  address,
  ...NO_POINTS,
  offers: null,
  publishes: {
    links: [],
    port: 0,
    settings,
    fields: [
      textField('settings.file', 'File', { open: true, help: 'Below the engine’s folder for what goes out' }),
      numberField('settings.afterMs', 'Written after', 'ms', [0, 3_600_000], { help: 'So long values are gathered' }),
      numberField('settings.mostValues', 'Values written at once', '', [1, 10_000]),
      numberField('settings.mostWaiting', 'Values that may wait', '', [1000, 1_000_000], {
        help: 'While the file cannot be written; beyond it the oldest are dropped, and counted',
      }),
    ],
    first: { file: 'values.jsonl' },
    placed: ['file'],
    adopts: ['afterMs', 'mostValues', 'mostWaiting'],
    plan: NO_PLAN,
    where: ({ file }) => `file ${file}`,
    key: ({ file }) => file.toLowerCase(),
    ends: ({ file }) => [
      { what: 'File', ours: 'written', theirs: `read from ${file}`, problem: null },
      { what: 'Line', ours: 'a JSON object', theirs: 'a JSON object, UTF-8, ended by a line feed', problem: null },
      { what: 'Repetitions', ours: 'have the same id', theirs: 'are dropped by id', problem: null },
    ],
    check: () => [],
    quiet: true,
    targets,
    carried: {
      carrier: 'file',
      destination: ({ file }) => file,
      bounds: ({ mostValues, afterMs, mostWaiting }) => ({ mostValues, afterMs, mostWaiting }),
      messages: (packet) => [{ to: '', octets: lines(packet) }],
      form: () => 'line',
    },
  },
};
