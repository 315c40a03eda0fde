import { PROTOCOLS } from '@halvix/core/protocols';
import { existsSync, readdirSync, readFileSync } from 'node:fs';
import { dirname, join, relative } from 'node:path';
import { expect, test } from 'vitest';

const ROOT = new URL('..', import.meta.url).pathname;
/** Folders of protocols, of those that are being built and of the layers that several stand on too. */
const FOLDERS = readdirSync(join(ROOT, 'core/protocols'), { withFileTypes: true })
  .filter((one) => one.isDirectory() && one.name !== 'sessions')
  .map(({ name }) => name);
/** Where a protocol is at home: its folder, and the two registrations. */
const AT_HOME = [
  ...FOLDERS.map((code) => `core/protocols/${code}/`),
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

/** The file that an import means; null: none of ours. */
function imported(from: string, by: string): string | null {
  const path = from.startsWith('.')
    ? join(dirname(by), from)
    : from.startsWith('$lib/')
      ? join('web/src/lib', from.slice('$lib/'.length))
      : from.startsWith('@halvix/')
        ? from.slice('@halvix/'.length)
        : null;
  if (path === null) return null;
  return (
    [path, join(path, 'index.ts')].find((one) => /\.(ts|svelte)$/.test(one) && existsSync(join(ROOT, one))) ?? null
  );
}

test('imports go round in no circle, types among them', () => {
  const files = ['core', 'engine', 'db', 'wire', 'bench', 'web/src'].flatMap(filesOf);
  const imports = new Map(
    files.map((file) => {
      const text = readFileSync(join(ROOT, file), 'utf8');
      const from = [...text.matchAll(/^\s*(?:import|export)\s[^'";]*?from\s+'([^']+)'/gm)].map(([, path]) => path);
      return [file, from.flatMap((path) => imported(path, file) ?? [])];
    }),
  );
  expect([...imports.values()].flat().length).toBeGreaterThan(1000);
  const state = new Map<string, 'open' | 'done'>();
  const circles: string[] = [];
  const visit = (file: string, way: readonly string[]): void => {
    if (state.get(file) === 'open') circles.push([...way.slice(way.indexOf(file)), file].join(' → '));
    if (state.has(file)) return;
    state.set(file, 'open');
    for (const next of imports.get(file) ?? []) visit(next, [...way, file]);
    state.set(file, 'done');
  };
  for (const file of files) visit(file, []);
  expect(circles).toEqual([]);
});
