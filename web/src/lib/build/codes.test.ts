import { expect, test } from 'vitest';
import { hostAndPort, proposedCode } from './codes.ts';

test('a code follows the name, and differs from those that are taken', () => {
  expect(proposedCode('Orlane Solar', [])).toBe('ORL');
  expect(proposedCode('Orlane West', ['ORL', 'ORL2'])).toBe('ORL3');
  expect(proposedCode('  Émile-Zola weir', [])).toBe('EMI');
  expect(proposedCode('F1', [])).toBe('F1');
  expect(proposedCode('– ?', [])).toBe('');
});

test('a host and a port as one are told apart; an IPv6 address stays what it is', () => {
  expect(hostAndPort(' 10.1.2.3:20000 ')).toEqual({ host: '10.1.2.3', port: 20000 });
  expect(hostAndPort('relay.example:502')).toEqual({ host: 'relay.example', port: 502 });
  expect(hostAndPort('10.1.2.3')).toBeNull();
  expect(hostAndPort('::1')).toBeNull();
  expect(hostAndPort('fd00::1:502')).toBeNull();
});
