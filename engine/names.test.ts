import { PROTOCOLS } from '@halvix/core/protocols';
import { ESLint } from 'eslint';
import { existsSync, readdirSync, readFileSync } from 'node:fs';
import { dirname, join, relative } from 'node:path';
import { expect, test } from 'vitest';

const ROOT = new URL('..', import.meta.url).pathname;
/** Folders of protocols, of those that are being built and of the layers that several stand on too. */
const FOLDERS = readdirSync(join(ROOT, 'core/protocols'), { withFileTypes: true })
  .filter((one) => one.isDirectory() && one.name !== 'sessions' && one.name !== 'decoders')
  .map(({ name }) => name);
/** Where a protocol is at home: its folder, the registrations, and the settings with which tests try all of them. */
const AT_HOME = [
  ...FOLDERS.map((code) => `core/protocols/${code}/`),
  ...PROTOCOLS.map((code) => `web/src/lib/protocols/${code}/`),
  'core/protocols/definitions.ts',
  'core/protocols/sessions/index.ts',
  'core/protocols/decoders/index.ts',
  'core/protocols/sessions/conformance.ts',
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

/** Whose rooms are looked at: the folders in it; what stands beside them knows all of them, or is known by all. */
const HOUSES = [
  'engine',
  'core',
  'core/protocols',
  ...FOLDERS.map((code) => `core/protocols/${code}`),
  'bench',
  'web/src/lib',
];
test.each(HOUSES)('the rooms of %s import each other in no circle', (house) => {
  const room = (file: string): string =>
    file.startsWith(`${house}/`) && file.slice(house.length + 1).includes('/')
      ? file.slice(house.length + 1).split('/')[0]
      : '';
  const reaches = new Map<string, Set<string>>();
  for (const file of filesOf(house)) {
    if (room(file) === '' || /\.(test|bench)\.ts$/.test(file)) continue;
    const text = readFileSync(join(ROOT, file), 'utf8');
    for (const [, from] of text.matchAll(/from\s+'([^']+)'/g)) {
      const other = room(imported(from, file) ?? '');
      if (other !== '' && other !== room(file))
        reaches.set(room(file), (reaches.get(room(file)) ?? new Set()).add(other));
    }
  }
  const circles = [...reaches.keys()].filter((start) => {
    const seen = new Set<string>();
    const visit = (from: string): void => {
      for (const next of reaches.get(from) ?? [])
        if (!seen.has(next)) {
          seen.add(next);
          visit(next);
        }
    };
    visit(start);
    return seen.has(start);
  });
  expect(circles, [...reaches].map(([from, to]) => `${from} → ${[...to].join(', ')}`).join('; ')).toEqual([]);
});

test('a folder with an index is imported through it', () => {
  const files = ['core', 'engine', 'db', 'wire', 'bench', 'web/src'].flatMap(filesOf);
  const indexed = new Set(files.filter((file) => file.endsWith('/index.ts')).map(dirname));
  // The registrations know the parts of each protocol: only what is asked for is loaded.
  const registers = ['definitions.ts', 'sessions/index.ts', 'decoders/index.ts'].map(
    (name) => `core/protocols/${name}`,
  );
  const around = files
    .filter((file) => !/\.(test|bench)\.ts$/.test(file) && !registers.includes(file))
    .flatMap((file) =>
      [...readFileSync(join(ROOT, file), 'utf8').matchAll(/from\s+'([^']+)'/g)].flatMap(([, from]) => {
        const target = imported(from, file);
        if (target === null || target.endsWith('/index.ts')) return [];
        for (let folder = dirname(target); folder !== '.'; folder = dirname(folder))
          if (indexed.has(folder) && !file.startsWith(`${folder}/`)) return `${file}: ${from}`;
        return [];
      }),
    );
  expect(around).toEqual([]);
});

test('a name that is exported stands for one thing', () => {
  // Each protocol and the web have their own words; what all of them share has one word for one thing.
  const homes = new Map<string, string[]>();
  for (const file of ['core', 'engine', 'db', 'wire'].flatMap(filesOf)) {
    if (/\.(test|bench)\.ts$/.test(file) || FOLDERS.some((code) => file.startsWith(`core/protocols/${code}/`)))
      continue;
    for (const [, name] of readFileSync(join(ROOT, file), 'utf8').matchAll(
      /^export (?:abstract )?(?:interface|type|class) (\w+)/gm,
    ))
      homes.set(name, [...(homes.get(name) ?? []), file]);
  }
  expect(homes.size).toBeGreaterThan(200);
  expect([...homes].filter(([, files]) => files.length > 1)).toEqual([]);
});

test('what the documents name in backticks as ours is there', () => {
  const missing = ['README.md', ...readdirSync(join(ROOT, 'docs')).map((name) => `docs/${name}`)]
    .filter((file) => file.endsWith('.md'))
    .flatMap((file) =>
      [...readFileSync(join(ROOT, file), 'utf8').matchAll(/`((?:core|engine|db|wire)\/[\w/.-]+)`/g)].flatMap(
        ([, path]) => ([path, `${path}.ts`].some((one) => existsSync(join(ROOT, one))) ? [] : `${file}: ${path}`),
      ),
    );
  expect(missing).toEqual([]);
});

test('what comments name in backticks as ours is there', () => {
  const texts = ['core', 'engine', 'db', 'wire', 'bench', 'web/src'].flatMap(filesOf).map((file) => {
    const text = readFileSync(join(ROOT, file), 'utf8');
    const comments = [...text.matchAll(/\/\*[\s\S]*?\*\/|(?<=^|\s)\/\/.*$/gm)].map(([comment]) => comment);
    return { file, comments, code: comments.reduce((rest, comment) => rest.replace(comment, ''), text) };
  });
  const words = new Set(
    texts.flatMap(({ file, code }) => [...file.split(/[/.]/), ...(code.match(/[A-Za-z_$][\w$]*/g) ?? [])]),
  );
  // Names in camel case, with a part of theirs or without; what stands on the wire or in a shell looks otherwise.
  const named = texts.flatMap(({ file, comments }) =>
    comments.flatMap((comment) =>
      [...comment.matchAll(/`([a-z]+[A-Z]\w*|[A-Z][a-z]+(?:[A-Z]\w*|\w*\.\w+))`/g)].map(([, name]) => ({ file, name })),
    ),
  );
  expect(named.length).toBeGreaterThan(100);
  const missing = named.filter(({ name }) => name.split('.').some((part) => !words.has(part)));
  expect(missing).toEqual([]);
});

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

/** Who may reach whom (docs/architecture.md), tried on the rule itself: what a file there would import, and whether it may. */
test.each<[file: string, imports: string, may: boolean]>([
  ['core/point/x.ts', 'node:fs', false],
  ['core/point/x.ts', '@halvix/db', false],
  ['core/point/x.ts', '../protocols/dnp3/points.ts', false],
  ['core/point/x.ts', '../protocols/index.ts', true],
  ['core/protocols/dnp3/x.ts', 'node:fs', false],
  ['core/protocols/dnp3/client/x.ts', '@halvix/db', false],
  ['core/protocols/dnp3/x.ts', '@halvix/wire', false],
  ['core/protocols/dnp3/x.ts', '../modbus/points.ts', false],
  ['core/protocols/tase2/x.ts', '../mms/server.ts', true],
  ['core/protocols/mms/x.ts', '../tase2/points.ts', false],
  ['db/x.ts', '@halvix/engine', false],
  ['db/x.ts', '@halvix/core/point/scaling', false],
  ['wire/x.ts', '@halvix/db', false],
  ['engine/x.ts', '@halvix/core/protocols/dnp3', false],
  ['engine/x.ts', '@halvix/core/protocols/sessions', true],
  ['engine/handon/x.ts', '@halvix/web', false],
  ['bench/x.ts', '@halvix/db', false],
  ['bench/x.ts', '@halvix/core/protocols/dnp3', true],
  ['web/src/lib/x.ts', 'node:net', false],
  ['web/src/lib/x.ts', '@halvix/core/protocols/modbus', false],
])('%s imports %s: %s', async (file, imports, may) => {
  const [{ messages }] = await linter.lintText(`import * as x from '${imports}';\nexport { x };\n`, {
    filePath: join(ROOT, file),
  });
  const refused = messages.filter(({ ruleId }) => ruleId === 'no-restricted-imports');
  expect(refused.length === 0, JSON.stringify(messages)).toBe(may);
});
const linter = new ESLint({ cwd: ROOT });
