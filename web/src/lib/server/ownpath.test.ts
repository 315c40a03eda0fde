import { expect, test } from 'vitest';
import { ownPath } from './ownpath.ts';

test.each([
  ['/run/device/HLM-F1', '/run/device/HLM-F1'],
  ['/run/history/7?from=1#a', '/run/history/7?from=1#a'],
  ['/', '/'],
])('%j is a path of this server', (to, path) => expect(ownPath(to)).toBe(path));

test.each([
  null,
  '',
  'run',
  '//elsewhere.example',
  '/\t/elsewhere.example',
  '/\n/elsewhere.example/',
  '\t//elsewhere.example',
  '/\\elsewhere.example',
  '/ /elsewhere.example',
  '/.//elsewhere.example',
  '/a/..//elsewhere.example',
  'http://elsewhere.example/',
  'javascript:alert(1)',
])('%j leads nowhere else', (to) => expect(ownPath(to)).toBe('/run'));
