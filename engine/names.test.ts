import { PROTOCOLS } from '@halvix/core/protocols';
import { readdirSync, readFileSync } from 'node:fs';
import { join, relative } from 'node:path';
import { expect, test } from 'vitest';

const ROOT = new URL('..', import.meta.url).pathname;
/** Where a protocol is at home: its folder, and the two registrations. */
const AT_HOME = [
  ...PROTOCOLS.map((code) => `core/protocols/${code}/`),
  ...PROTOCOLS.map((code) => `web/src/lib/protocols/${code}/`),
  'core/protocols/definitions.ts',
  'core/protocols/sessions/index.ts',
];

const filesOf = (folder: string): string[] =>
  readdirSync(join(ROOT, folder), { withFileTypes: true }).flatMap((one) =>
    one.isDirectory()
      ? one.name === 'node_modules'
        ? []
        : filesOf(join(folder, one.name))
      : /\.(ts|svelte)$/.test(one.name)
        ? [join(folder, one.name)]
        : [],
  );

test('a protocol is named in its own places only', () => {
  const named = ['core', 'engine', 'db', 'wire', 'web/src']
    .flatMap(filesOf)
    .filter((file) => !/\.(test|bench)\.ts$/.test(file) && !AT_HOME.some((place) => file.startsWith(place)))
    .flatMap((file) =>
      readFileSync(join(ROOT, file), 'utf8')
        .split('\n')
        .flatMap((line, at) =>
          PROTOCOLS.some((code) => line.toLowerCase().includes(code))
            ? `${relative('', file)}:${at + 1} ${line.trim()}`
            : [],
        ),
    );
  expect(named).toEqual([]);
});
