import { NO_PLAN, NO_POINTS, type Definition } from '../definition.ts';
import { textField } from '../settingfield.ts';
import { PUBLISHING_COUNTERS } from '../publishing/publisher.ts';
import { lines } from './lines.ts';
import { PUBLISHING_ADOPTS, publishingFields, publishingNames, publishingProblems } from '../publishing/settings.ts';
import { LIMITS, settings, type LinesSettings } from './settings.ts';
import { address, targets, type LinesTargetAt } from './target.ts';

/** A file that grows by a line for each value: one JSON object each. Described in docs/formats.md. */
export const jsonlines: Definition<never, LinesSettings, never, never, LinesTargetAt, 'jsonlines'> = {
  code: 'jsonlines',
  words: { name: 'File of lines', us: 'writer', them: 'file' },
  framings: [],
  counters: PUBLISHING_COUNTERS,
  address,
  ...NO_POINTS,
  offers: null,
  publishes: {
    links: [],
    port: 0,
    settings,
    fields: [
      textField('settings.file', 'File', { open: true, help: 'Below the engine’s folder for what goes out' }),
      ...publishingFields(LIMITS),
    ],
    first: { file: 'values.jsonl' },
    placed: ['file'],
    adopts: PUBLISHING_ADOPTS,
    plan: NO_PLAN,
    where: ({ file }) => `file ${file}`,
    key: ({ file }) => file.toLowerCase(),
    ends: ({ file }) => [
      { what: 'File', ours: 'written', theirs: `read from ${file}`, problem: null },
      { what: 'Line', ours: 'a JSON object', theirs: 'a JSON object, UTF-8, ended by a line feed', problem: null },
      { what: 'Repetitions', ours: 'have the same id', theirs: 'are dropped by id', problem: null },
    ],
    check: publishingProblems,
    namesTargets: publishingNames,
    quiet: true,
    targets,
    carried: {
      carrier: 'file',
      destination: ({ file }) => file,
      terms: (all) => all,
      messages: (packet) => [{ to: '', octets: lines(packet) }],
      form: () => 'line',
    },
  },
};
