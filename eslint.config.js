import { readdirSync } from 'node:fs';
import js from '@eslint/js';
import globals from 'globals';
import svelte from 'eslint-plugin-svelte';
import ts from 'typescript-eslint';

/** Where sessions and decoders of all protocols are registered: no protocols themselves. */
const REGISTRATIONS = ['sessions', 'decoders'];
const PROTOCOLS = readdirSync(new URL('core/protocols', import.meta.url), { withFileTypes: true })
  .filter((one) => one.isDirectory() && !REGISTRATIONS.includes(one.name))
  .map(({ name }) => name);

/** What several protocols stand on: it knows none of them. */
const LAYERS = ['mms', 'publishing', 'polling'];

/** A protocol's own folder is for core/protocols, the bench and tests; everybody else asks its definition and its sessions. */
const NO_PROTOCOL = {
  regex:
    '(@halvix/core/protocols/(?!sessions$)|(\\.\\./)+protocols/(?!(index|definition|definitions|client|server|control|counterset|credentials|measured|ends|settingfield)\\.ts$|sessions/))',
  message: 'Name no protocol here: ask its definition (@halvix/core/protocols) or its sessions.',
};

/** @typedef {{ group?: string[], regex?: string, message: string }} Pattern */

/**
 * Import rules of docs/architecture.md: who may reach whom. A folder's index.ts is its only door. All that holds for a file is
 * said in one block: a later one takes the place of an earlier one.
 * @param {string[]} names
 * @param {string} why
 * @param {{ speaks?: boolean, more?: Pattern[] }} [options]
 */
const mayNotImport = (names, why, { speaks = false, more = [] } = {}) => ({
  'no-restricted-imports': /** @type {['error', { patterns: any[] }]} */ ([
    'error',
    {
      patterns: [
        ...(names.length ? [{ group: names, message: why }] : []),
        {
          group: ['@halvix/core/*/*', '!@halvix/core/protocols/*', '@halvix/core/protocols/*/*'],
          message: "Import a core folder through its index.ts: '@halvix/core/<folder>'.",
        },
        ...(speaks ? [] : [NO_PROTOCOL]),
        ...more,
      ],
    },
  ]),
});

/** Of core: no Node, no I/O, nothing of ours. */
const OUTSIDE = ['node:*', 'fs', 'net', '@halvix/*'];
const OUTSIDE_WORDS = 'core has no Node, no I/O and imports nothing of ours.';
export default ts.config(
  { ignores: ['**/node_modules', '**/dist', 'web/build', 'web/.svelte-kit', '.data', 'db/migrations', 'test-results'] },
  js.configs.recommended,
  ...ts.configs.strict,
  ...svelte.configs.recommended,
  {
    languageOptions: { globals: { ...globals.node } },
    rules: {
      '@typescript-eslint/no-unused-vars': ['error', { argsIgnorePattern: '^_', varsIgnorePattern: '^_' }],
      '@typescript-eslint/no-extraneous-class': 'off',
      'no-undef': 'off',
    },
  },
  {
    files: ['core/**/*.ts'],
    rules: {
      ...mayNotImport(OUTSIDE, OUTSIDE_WORDS),
      'no-restricted-globals': [
        'error',
        'process',
        'Buffer',
        'setTimeout',
        'setInterval',
        'window',
        'document',
        'performance',
      ],
      'no-restricted-properties': [
        'error',
        { object: 'Date', property: 'now', message: 'core has no clock: take the time as an argument.' },
        { object: 'Math', property: 'random', message: 'core has no randomness of its own: take it as an argument.' },
      ],
    },
  },
  {
    files: ['**/*.test.ts', '**/*.bench.ts'],
    rules: { '@typescript-eslint/no-non-null-assertion': 'off' },
  },
  {
    files: ['db/**/*.ts'],
    rules: mayNotImport(['@halvix/engine', '@halvix/bench', '@halvix/web'], 'db imports core only.'),
  },
  {
    files: ['wire/**/*.ts'],
    rules: mayNotImport(['@halvix/db', '@halvix/engine', '@halvix/bench', '@halvix/web'], 'wire imports core only.'),
  },
  {
    files: ['engine/**/*.ts'],
    rules: mayNotImport(['@halvix/bench', '@halvix/web'], 'engine imports core and db only.'),
  },
  {
    files: ['bench/**/*.ts'],
    rules: mayNotImport(['@halvix/db', '@halvix/engine', '@halvix/web'], 'bench imports core only.', { speaks: true }),
  },
  {
    files: ['web/**/*.ts', 'web/**/*.svelte'],
    rules: mayNotImport(
      ['@halvix/engine', '@halvix/bench', 'node:net', 'node:tls', 'node:dgram'],
      'web never opens a field connection; it imports core and db only.',
    ),
  },
  {
    // What is made for each value or message: see docs/decisions.md, "What a reading leaves behind".
    files: [
      'core/line/*.ts',
      'core/protocols/dnp3/client/intake/{intake,carried,confirms}.ts',
      'core/protocols/dnp3/wire/{measured,transport,application,link,linkprimary,objects}.ts',
      'core/protocols/dnp3/server/{eventbuffer,owedevents}.ts',
      'core/protocols/publishing/record.ts',
      'core/protocols/tase2/client/readings.ts',
      'engine/board/latest.ts',
    ],
    ignores: ['**/*.test.ts'],
    rules: {
      'no-restricted-syntax': [
        'error',
        {
          selector: 'ObjectExpression[properties.length>1] > SpreadElement:first-child',
          message: 'Write the fields out: an object that begins with a spread is old from the start.',
        },
      ],
    },
  },
  { files: ['e2e/**/*.ts'], rules: { '@typescript-eslint/no-non-null-assertion': 'off' } },
  // Tests speak a protocol where they need one that is real.
  { files: ['{core,engine,web}/**/*.test.ts', 'engine/**/*.bench.ts'], rules: mayNotImport([], '', { speaks: true }) },
  ...PROTOCOLS.map((own) => ({
    files: [`core/protocols/${own}/**/*.ts`],
    ignores: ['**/*.test.ts'],
    rules: mayNotImport(OUTSIDE, OUTSIDE_WORDS, {
      speaks: true,
      more: PROTOCOLS.filter((other) => other !== own && !LAYERS.includes(other)).map((other) => ({
        regex: `(\\.\\./)+${other}/`,
        message: 'One protocol does not know another.',
      })),
    }),
  })),
  {
    files: ['**/*.svelte', '**/*.svelte.ts'],
    languageOptions: { parserOptions: { parser: ts.parser }, globals: { ...globals.browser } },
    rules: { 'svelte/no-navigation-without-resolve': 'off' },
  },
);
