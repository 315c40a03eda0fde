import js from '@eslint/js';
import globals from 'globals';
import svelte from 'eslint-plugin-svelte';
import ts from 'typescript-eslint';

/** Import rules of docs/architecture.md: who may reach whom. A folder's index.ts is its only door. */
const mayNotImport = (/** @type {string[]} */ names, /** @type {string} */ why) => ({
  'no-restricted-imports': [
    'error',
    {
      patterns: [
        ...(names.length ? [{ group: names, message: why }] : []),
        {
          group: ['@halvix/core/*/*', '!@halvix/core/protocols/*', '@halvix/core/protocols/*/*'],
          message: "Import a core folder through its index.ts: '@halvix/core/<folder>'.",
        },
      ],
    },
  ],
});

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
      ...mayNotImport(
        ['node:*', 'fs', 'net', '@halvix/db', '@halvix/engine', '@halvix/bench', '@halvix/web'],
        'core has no Node, no I/O and imports nothing of ours.',
      ),
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
  { files: ['**/*.test.ts'], rules: { '@typescript-eslint/no-non-null-assertion': 'off' } },
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
    rules: mayNotImport(['@halvix/db', '@halvix/engine', '@halvix/web'], 'bench imports core only.'),
  },
  {
    files: ['web/**/*.ts', 'web/**/*.svelte'],
    rules: mayNotImport(
      ['@halvix/engine', '@halvix/bench', 'node:net', 'node:tls', 'node:dgram'],
      'web never opens a field connection; it imports core and db only.',
    ),
  },
  { files: ['e2e/**/*.ts'], rules: { '@typescript-eslint/no-non-null-assertion': 'off' } },
  {
    files: ['**/*.svelte', '**/*.svelte.ts'],
    languageOptions: { parserOptions: { parser: ts.parser }, globals: { ...globals.browser } },
    rules: { 'svelte/no-navigation-without-resolve': 'off' },
  },
);
